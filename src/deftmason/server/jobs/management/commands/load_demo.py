"""Put the demo jobs on the shelf, once: scans made by the simulated scanner, recipes laid through the user's own code."""

from __future__ import annotations

import json

from django.conf import settings
from django.core.management.base import BaseCommand
from django.db import transaction

from deftmason.server.jobs.blobs import keep_file
from deftmason.server.jobs.models import Job
from deftmason.server.jobs.recipe import change, note_results, records, replay_of, scan_file_of, store
from deftmason.server.jobs.shelf import begin_job


class Command(BaseCommand):
    help = __doc__

    def add_arguments(self, parser):
        parser.add_argument("--spacing", type=float, default=0.52, help="Triangle size of the scans, mm.")

    def handle(self, *args, spacing: float, **options):
        if Job.objects.filter(demo__startswith="bracket").exists():
            self.stdout.write("The demo jobs are there already.")
            return
        from deftmason.core.scan.files import write_scan
        from deftmason.demo.bracket import bracket_scanner, true_bracket
        from deftmason.demo.bracket_job import bracket_steps
        from deftmason.rig.scanner import scan_part

        self.stdout.write("Scanning the chain guide bracket …")
        mesh, pose = scan_part(true_bracket(), bracket_scanner(spacing))
        path = settings.DATA / "tmp" / "bracket-scan.ply"
        write_scan(str(path), mesh)
        with open(path, "rb") as f:
            blob = keep_file(iter(lambda: f.read(1 << 20), b""))
        path.unlink()
        (settings.DATA / "demo-truth.json").write_text(json.dumps({"bracket": {"pose": pose.matrix.tolist()}}))
        self.stdout.write("Laying its recipe …")
        with transaction.atomic():
            finished = Job.objects.create(name="Bracket, finished", demo="bracket-finished")
            step = begin_job(finished, blob.sha256, "Bracket scan.ply", "mm")
        steps = bracket_steps(step, pose, store(), scan_file_of([step]))
        change(finished, "Load the demo", steps)
        finished.edits.all().delete()
        note_results(finished, records(finished))
        replay_of(records(finished)).run()
        fresh = Job.objects.create(name="Chain guide bracket", demo="bracket")
        begin_job(fresh, blob.sha256, "Bracket scan.ply", "mm")
        self.stdout.write("Two demo jobs are on the shelf.")
