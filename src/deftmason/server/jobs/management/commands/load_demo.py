"""Put the demo jobs on the shelf, once: scans made by the simulated scanner, recipes laid through the user's own code."""

from __future__ import annotations

import json
from concurrent.futures import ProcessPoolExecutor
from multiprocessing import get_context

from django.conf import settings
from django.core.management.base import BaseCommand
from django.db import transaction

from deftmason.server.jobs.blobs import keep_file
from deftmason.server.jobs.models import Job
from deftmason.server.jobs.recipe import change, note_results, records, replay_of, scan_file_of, store
from deftmason.server.jobs.shelf import begin_job, lay_scans, picture_data, scan_step


class Command(BaseCommand):
    help = __doc__

    def add_arguments(self, parser):
        parser.add_argument("--spacing", type=float, default=0.52, help="Triangle size of the scans, mm.")

        parser.add_argument("--lantern-spacing", type=float, default=0.6, help="Triangle size of the arm's scans, mm.")

    def _kept(self, mesh, name: str) -> str:
        """The mesh kept as a file somebody might have sent; its checksum."""
        from deftmason.core.scan.files import write_scan

        path = settings.DATA / "tmp" / name
        path.parent.mkdir(exist_ok=True)
        write_scan(str(path), mesh)
        with open(path, "rb") as f:
            blob = keep_file(iter(lambda: f.read(1 << 20), b""))
        path.unlink()
        return blob.sha256

    def handle(self, *args, spacing: float, lantern_spacing: float, **options):
        if Job.objects.filter(demo__startswith="bracket").exists():
            self.stdout.write("The demo jobs are there already.")
            return
        from deftmason.demo.bracket import bracket_scanner, raw_bracket, true_bracket
        from deftmason.demo.bracket_job import bracket_steps
        from deftmason.demo.lantern import lantern_scans
        from deftmason.rig.scanner import scan_part

        # The two parts are scanned side by side, on a core each.
        self.stdout.write("Scanning the lantern arm on its slab and the chain guide bracket …")
        with ProcessPoolExecutor(1, mp_context=get_context("spawn")) as helper:
            arms = helper.submit(lantern_scans, lantern_spacing)
            mesh, pose = scan_part(true_bracket(), bracket_scanner(spacing))
            views = arms.result()
        arm = Job.objects.create(name="Lantern arm", demo="lantern")
        files = [(self._kept(m, f"Lantern arm {k + 1}.ply"), f"Lantern arm {k + 1}.ply") for k, (m, _) in enumerate(views)]
        lay_scans(arm, [], [scan_step(sha, name, "mm", None, k) for k, (sha, name) in enumerate(files)])
        arm.edits.all().delete()
        raw = Job.objects.create(name="Chain guide bracket, raw", demo="bracket-raw")
        begin_job(raw, self._kept(raw_bracket(mesh, pose), "Bracket raw.ply"), "Bracket raw.ply", "mm")
        truth = {"bracket": {"pose": pose.matrix.tolist()}, "lantern": [{"pose": p.matrix.tolist()} for _, p in views]}
        (settings.DATA / "demo-truth.json").write_text(json.dumps(truth))
        blob = self._kept(mesh, "Bracket scan.ply")
        self.stdout.write("Laying its recipe …")
        with transaction.atomic():
            finished = Job.objects.create(name="Bracket, finished", demo="bracket-finished")
            step = begin_job(finished, blob, "Bracket scan.ply", "mm")
        steps = bracket_steps(step, pose, store(), scan_file_of([step]))
        change(finished, "Load the demo", steps)
        finished.edits.all().delete()
        note_results(finished, records(finished))
        replay_of(records(finished)).run()
        fresh = Job.objects.create(name="Chain guide bracket", demo="bracket")
        begin_job(fresh, blob, "Bracket scan.ply", "mm")
        for job in (arm, raw, finished, fresh):
            picture_data(job)
        self.stdout.write("Four demo jobs are on the shelf.")
