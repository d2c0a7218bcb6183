"""Put the demo jobs on the shelf, once: scans made by the simulated scanner, recipes laid through the user's
own code.
"""

from __future__ import annotations

import json
from concurrent.futures import ProcessPoolExecutor
from multiprocessing import get_context

import numpy as np
from django.conf import settings
from django.core.management import call_command
from django.core.management.base import BaseCommand
from django.db import transaction

from deftmason.core.recipe.kinds.scan import scan_record
from deftmason.server.jobs.blobs import keep, receive
from deftmason.server.jobs.models import Job, Piece
from deftmason.server.jobs.piecework import file_of
from deftmason.server.jobs.recipe import change, desk, note_results, records, replay_of, store
from deftmason.server.jobs.shelf import begin_job, picture_of_job

_PATIENCE = 300.0  # seconds: nobody waits, and no worker may be there to go on


class Command(BaseCommand):
    help = __doc__

    def add_arguments(self, parser):
        parser.add_argument("--spacing", type=float, default=0.52, help="Triangle size of the scans, mm.")

        parser.add_argument(
            "--raw", action="store_true", help="Only the jobs that begin with a scan; the rest another time."
        )
        parser.add_argument("--lantern-spacing", type=float, default=0.6, help="Triangle size of the arm's scans, mm.")

        parser.add_argument("--without-curved", action="store_true", help="Not the tubes, threads and horns.")

    def _kept(self, mesh, name: str) -> str:
        """The mesh kept as a file somebody might have sent; its checksum."""
        from deftmason.core.scan.files import write_scan

        path = settings.DATA / "tmp" / name
        path.parent.mkdir(exist_ok=True)
        write_scan(str(path), mesh)
        with open(path, "rb") as f:
            blob = keep(receive(iter(lambda: f.read(1 << 20), b"")))
        path.unlink()
        return blob.sha256

    def handle(self, *args, spacing: float, lantern_spacing: float, raw: bool, without_curved: bool, **options):
        call_command("migrate", verbosity=0)
        if not Job.objects.filter(demo="bracket").exists():
            self._scans(spacing, lantern_spacing)
        if not raw and not Job.objects.filter(demo="bracket-finished").exists():
            self._finished()
        if not raw and not without_curved:
            self._curved()
            if not Job.objects.filter(demo="hinge-pieces").exists():
                self._pieces(spacing)
        self.stdout.write("The demo jobs are on the shelf.")

    def _scans(self, spacing: float, lantern_spacing: float) -> None:
        """The jobs that begin with a scan: six raw views of the arm, the bracket raw and sound."""
        from deftmason.demo.bracket import bracket_scanner, raw_bracket, true_bracket
        from deftmason.demo.hinge import hinge_scan
        from deftmason.demo.lantern import lantern_scans
        from deftmason.demo.pump_cap import pump_cap_scan
        from deftmason.rig.scanner import scan_part

        # The parts are scanned side by side, on a core each.
        self.stdout.write("Scanning the lantern arm on its slab, the chain guide bracket, the hinge and the pump cap …")
        with ProcessPoolExecutor(1, mp_context=get_context("spawn")) as helper:
            arms = helper.submit(lantern_scans, lantern_spacing)
            mesh, pose = scan_part(true_bracket(), bracket_scanner(spacing))
            hinge, hinge_pose = hinge_scan(1.15 * spacing)
            cap, cap_pose = pump_cap_scan(1.5 * spacing)
            views = arms.result()
        truth = {
            "bracket": {"pose": pose.matrix.tolist()},
            "hinge": {"pose": hinge_pose.matrix.tolist()},
            "cap": {"pose": cap_pose.matrix.tolist()},
            "lantern": [{"pose": p.matrix.tolist()} for _, p in views],
        }
        _truth_file().write_text(json.dumps(truth))
        names = [f"Lantern arm {k + 1}.ply" for k in range(len(views))]
        arm_steps = [scan_record(self._kept(m, n), n, "mm", None, k) for k, ((m, _), n) in enumerate(zip(views, names))]
        raw_file, sound_file = (
            self._kept(raw_bracket(mesh, pose), "Bracket raw.ply"),
            self._kept(mesh, "Bracket scan.ply"),
        )
        begin_job("Lantern arm", arm_steps, None, "demo", demo="lantern", patience=_PATIENCE)
        jobs = [
            ("Rowlock hinge", "hinge", "Hinge scan.ply", self._kept(hinge, "Hinge scan.ply")),
            ("Pump cap", "cap", "Pump cap scan.ply", self._kept(cap, "Pump cap scan.ply")),
            ("Chain guide bracket, raw", "bracket-raw", "Bracket raw.ply", raw_file),
            ("Chain guide bracket", "bracket", "Bracket scan.ply", sound_file),
            ("Bracket in ten steps", "bracket-guided", "Bracket scan.ply", sound_file),
        ]
        for name, demo, file, kept in jobs:
            begin_job(name, [scan_record(kept, file, "mm")], None, "demo", demo=demo, patience=_PATIENCE)

    def _finished(self) -> None:
        """The bracket's ready job; on the shelf only once its whole recipe is worked out."""
        for job in Job.objects.exclude(demo=""):
            picture_of_job(job, "demo", _PATIENCE)
        from deftmason.core.elements import RigidMotion
        from deftmason.demo.bracket_job import bracket_steps
        from deftmason.demo.pump_cap_job import pump_cap_built, pump_cap_steps

        self.stdout.write("Laying the pump cap's frame and the bracket's recipe …")
        truth = json.loads(_truth_file().read_text())
        cap = Job.objects.get(demo="cap")
        if len(records(cap)) == 1:
            laid = pump_cap_steps(records(cap)[0], RigidMotion(np.array(truth["cap"]["pose"])))
            with transaction.atomic():
                change(cap, "Load the demo", lambda _: laid, trusted=True)
                cap.edits.all().delete()
            replay_of(records(cap)).run()
        cap_pose = RigidMotion(np.array(truth["cap"]["pose"]))
        built = pump_cap_built(records(cap)[0], cap_pose, store(), desk().scan_file)
        self._shelved("Pump cap, built", "cap-built", built)
        step = records(Job.objects.get(demo="bracket"))[0]
        pose = RigidMotion(np.array(truth["bracket"]["pose"]))
        steps = bracket_steps(step, pose, store(), desk().scan_file)
        self._shelved("Bracket, finished", "bracket-finished", steps)

    def _curved(self) -> None:
        """Tubes, horns and threads: each job up to its frame."""
        from deftmason.demo.curved_jobs import CURVED, framed

        there = set(Job.objects.filter(demo__in=CURVED).values_list("demo", flat=True))
        wanted = {demo: job for demo, job in CURVED.items() if demo not in there}
        if not wanted:
            return
        self.stdout.write(f"Scanning {', '.join(job.name.lower() for job in wanted.values())} …")
        with ProcessPoolExecutor(2, mp_context=get_context("spawn")) as helpers:
            scans = {demo: helpers.submit(job.scan) for demo, job in wanted.items()}
            for demo, job in wanted.items():
                mesh, pose = scans[demo].result()
                record = scan_record(self._kept(mesh, job.file), job.file, "mm")
                self._shelved(job.name, demo, framed(job, record, pose))

    def _pieces(self, spacing: float) -> None:
        """A hinge's whole recipe, and six worn pieces of the part waiting to be run through it."""
        from deftmason.core.elements import RigidMotion
        from deftmason.core.scan.files import read_scan
        from deftmason.core.scan.likeness import likeness_of
        from deftmason.demo.hinge import worn_hinges
        from deftmason.demo.hinge_job import hinge_steps

        self.stdout.write("Scanning six worn hinges …")
        with ProcessPoolExecutor(1, mp_context=get_context("spawn")) as helper:
            worn = helper.submit(worn_hinges, 1.8 * spacing)
            pose = RigidMotion(np.array(json.loads(_truth_file().read_text())["hinge"]["pose"]))
            step = records(Job.objects.get(demo="hinge"))[0]
            scan = read_scan(desk().scan_file(step["sha256"], step["name"]), "mm", called=step["file"]).scan
            step = {**step, "likeness": likeness_of(scan)}
            steps = hinge_steps(step, pose, store(), desk().scan_file)
            files = [self._kept(mesh, f"Hinge {k + 1}.ply") for k, (mesh, _) in enumerate(worn.result())]
        job = self._shelved("Rowlock hinge, six worn pieces", "hinge-pieces", steps)
        Piece.objects.bulk_create(
            Piece(job=job, step_id=step["id"], name=name, record=file_of(scan_record(kept, name, "mm")))
            for kept, name in ((kept, f"Hinge {k + 1}.ply") for k, kept in enumerate(files))
        )

    def _shelved(self, name: str, demo: str, steps: list[dict]) -> Job:
        """A job with a whole recipe, worked out."""
        Job.objects.filter(demo=demo).delete()
        with transaction.atomic():
            job = Job.objects.create(name=name, demo=demo)
            change(job, "Load the demo", lambda _: steps, trusted=True)
            job.edits.all().delete()
            note_results(job, records(job))
        replay_of(records(job)).run()
        picture_of_job(job, "demo", _PATIENCE)
        return job


def _truth_file():
    return settings.DATA / "demo-truth.json"
