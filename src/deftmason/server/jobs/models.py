"""What is kept about jobs. A blob's bytes are on disk, flushed, before the row that names them."""

from django.conf import settings
from django.db import models


class Blob(models.Model):
    """A file as it was given, by its checksum."""

    sha256 = models.CharField(max_length=64, unique=True)
    size = models.BigIntegerField()
    created = models.DateTimeField(auto_now_add=True)


class Upload(models.Model):
    """A file somebody sent: the right to use its blob."""

    blob = models.ForeignKey(Blob, on_delete=models.PROTECT)
    owner = models.ForeignKey(settings.AUTH_USER_MODEL, null=True, on_delete=models.CASCADE)
    name = models.CharField(max_length=200)
    created = models.DateTimeField(auto_now_add=True)


class Job(models.Model):
    """A recipe with a name. ``revision`` grows with every change."""

    name = models.CharField(max_length=120)
    owner = models.ForeignKey(settings.AUTH_USER_MODEL, null=True, on_delete=models.CASCADE, related_name="jobs")
    shared_with = models.ManyToManyField(settings.AUTH_USER_MODEL, blank=True, related_name="shared_jobs")
    demo = models.CharField(max_length=40, blank=True)
    created = models.DateTimeField(auto_now_add=True)
    changed = models.DateTimeField(auto_now=True)
    revision = models.IntegerField(default=0)


class Step(models.Model):
    """One step's record, checked by its kind's model before it is stored."""

    job = models.ForeignKey(Job, on_delete=models.CASCADE, related_name="steps")
    order = models.IntegerField()
    step_id = models.CharField(max_length=40)
    record = models.JSONField()

    class Meta:
        ordering = ["order"]
        unique_together = [("job", "step_id")]


class Result(models.Model):
    """Which results a job has had: the right to read their geometry."""

    job = models.ForeignKey(Job, on_delete=models.CASCADE, related_name="results")
    key = models.CharField(max_length=64)

    class Meta:
        unique_together = [("job", "key")]


class Edit(models.Model):
    """A change to the recipe, whole before and after, for undo and redo."""

    job = models.ForeignKey(Job, on_delete=models.CASCADE, related_name="edits")
    label = models.CharField(max_length=160)
    before = models.JSONField()
    after = models.JSONField()
    revision = models.IntegerField(default=0, db_index=True)  # that it made
    undone = models.BooleanField(default=False)
    created = models.DateTimeField(auto_now_add=True)


class Work(models.Model):
    """A task as people see it: progress, a sentence, cancel."""

    job = models.ForeignKey(Job, on_delete=models.CASCADE, related_name="works")
    label = models.CharField(max_length=160)
    what = models.CharField(max_length=12, default="lay")  # lay, pieces
    state = models.CharField(max_length=12, default="waiting")  # waiting running done failed cancelled
    progress = models.FloatField(default=0)
    message = models.CharField(max_length=300, blank=True)
    cancel_asked = models.BooleanField(default=False)
    heartbeat = models.DateTimeField(null=True)
    created = models.DateTimeField(auto_now_add=True)


class Proof(models.Model):
    """A check kept as it was: its numbers, the results that show it, its notes, and the model's state: the recipe and
    its values.
    """

    job = models.ForeignKey(Job, on_delete=models.CASCADE, related_name="proofs")
    name = models.CharField(max_length=120)
    created = models.DateTimeField(auto_now_add=True)
    key = models.CharField(max_length=64)
    scan_key = models.CharField(max_length=64)
    body_key = models.CharField(max_length=64)
    matrix = models.JSONField()
    settings = models.JSONField()
    summary = models.JSONField()
    pins = models.JSONField(default=list)
    views = models.JSONField(default=list)
    values = models.JSONField(default=list)
    recipe = models.JSONField(default=list)
    revision = models.IntegerField(default=0)


class Piece(models.Model):
    """Another piece of the job's part: its scan, and what the recipe said of it when it ran last.

    ``step_id`` is the scan it stands in for, ``record`` its file's; ``recipe`` tells which recipe ran. ``values`` are
    of the ledger: name, measured, uncertainty, unit.
    """

    job = models.ForeignKey(Job, on_delete=models.CASCADE, related_name="pieces")
    step_id = models.CharField(max_length=40)
    name = models.CharField(max_length=200)
    record = models.JSONField()
    recipe = models.CharField(max_length=64, blank=True)
    status = models.CharField(max_length=16, default="waiting")  # waiting done attention failed
    says = models.CharField(max_length=600, blank=True)
    values = models.JSONField(default=list)
    check_summary = models.JSONField(null=True)
    created = models.DateTimeField(auto_now_add=True)


class Capture(models.Model):
    """A capture of the job's part, in a recording of its own; ``step_id``: the scan it was handed on as, if it was."""

    job = models.ForeignKey(Job, on_delete=models.CASCADE, related_name="captures")
    name = models.CharField(max_length=120)
    file = models.CharField(max_length=64, unique=True)
    step_id = models.CharField(max_length=40, blank=True)
    created = models.DateTimeField(auto_now_add=True)


class Token(models.Model):
    """What a script speaks for somebody with; only its hash is kept. Without an owner: in local use."""

    owner = models.ForeignKey(settings.AUTH_USER_MODEL, null=True, on_delete=models.CASCADE, related_name="tokens")
    name = models.CharField(max_length=80)
    sha256 = models.CharField(max_length=64, unique=True)
    created = models.DateTimeField(auto_now_add=True)
    used = models.DateTimeField(null=True)
