"""What is kept: surveys with their sites and findings, what logs add up to, and jobs."""

from __future__ import annotations

from django.contrib.auth.models import User
from django.db import models


class SurveyRecord(models.Model):
    """A loaded survey; its file lies in the surveys folder under `file`. origin: only for one that
    this machine's own capture took is the live machine asked anything. revision: another one, once
    it was loaded anew, or its traffic was counted.
    """

    class Origin(models.TextChoices):
        UNKNOWN = "unknown"
        HERE = "here"
        DEMO = "demo"

    host = models.CharField(max_length=255)
    taken_at = models.DateTimeField()
    loaded_at = models.DateTimeField(auto_now_add=True)
    file = models.CharField(max_length=100)
    # The same survey loaded twice is one record; two loads at once are told apart by the database.
    digest = models.CharField(max_length=64, unique=True)
    paths = models.PositiveIntegerField()
    engines = models.JSONField(default=list)
    gaps = models.JSONField(default=list)
    breaks = models.JSONField(default=list)
    failed_checks = models.JSONField(default=list)
    origin = models.CharField(max_length=10, choices=Origin, default=Origin.UNKNOWN)
    revision = models.PositiveIntegerField(default=0)

    class Meta:
        ordering = ("-taken_at", "-id")


class SiteRecord(models.Model):
    """One site of a survey, with what a visitor meets who asks for its front page."""

    survey = models.ForeignKey(SurveyRecord, on_delete=models.CASCADE, related_name="sites")
    position = models.PositiveIntegerField()
    engine = models.CharField(max_length=10)
    name = models.CharField(max_length=300)
    personal = models.BooleanField(default=False)
    # The longest path that the kernel takes (PATH_MAX, 4096 bytes), a colon and a line's number.
    declared_at = models.CharField(max_length=4200)
    binding = models.CharField(max_length=300)
    root = models.CharField(max_length=4100, null=True)
    owner = models.CharField(max_length=300, null=True)
    volume = models.CharField(max_length=1000, null=True)
    url = models.CharField(max_length=1000)
    to = models.CharField(max_length=50)
    state = models.CharField(max_length=10)
    status = models.PositiveSmallIntegerField(null=True)
    gate = models.CharField(max_length=10)
    reason = models.TextField()
    obstacles = models.PositiveSmallIntegerField()
    behind = models.BooleanField(default=False)
    subject = models.CharField(max_length=1000, default="")
    # None until a log was read: nought would say that nobody comes.
    requests_a_day = models.PositiveIntegerField(null=True)
    impact = models.CharField(max_length=10, default="")

    class Meta:
        ordering = ("position",)
        indexes = (models.Index(fields=("survey", "position")),)


class FindingRecord(models.Model):
    """One thing wrong on a survey. key: the same from survey to survey."""

    survey = models.ForeignKey(SurveyRecord, on_delete=models.CASCADE, related_name="findings")
    position = models.PositiveIntegerField()
    key = models.CharField(max_length=16)
    check_id = models.CharField(max_length=40)
    impact = models.CharField(max_length=10)
    title = models.TextField()
    subject = models.TextField()
    sites = models.JSONField(default=list)
    evidence = models.JSONField(default=list)
    toll = models.JSONField(default=dict)
    group = models.TextField()
    remedies = models.JSONField(default=list)

    class Meta:
        ordering = ("position",)
        indexes = (
            models.Index(fields=("survey", "position")),
            models.Index(fields=("survey", "key")),
        )


class AcceptedFinding(models.Model):
    """A finding that somebody lives with, for a reason; until: it comes back on that day."""

    host = models.CharField(max_length=255)
    key = models.CharField(max_length=16)
    reason = models.TextField()
    until = models.DateField(null=True)
    by = models.CharField(max_length=150)
    at = models.DateTimeField()

    class Meta:
        constraints = (models.UniqueConstraint(fields=("host", "key"), name="accepted_once"),)


class LogSource(models.Model):
    """One log by the configuration. trouble: why it cannot be read. unread: files that are packed
    in a way that is not read. zone: seconds east of UTC, as its last line has it.
    """

    host = models.CharField(max_length=255)
    path = models.TextField()
    kind = models.CharField(max_length=10)
    engine = models.CharField(max_length=10)
    trouble = models.TextField(default="")
    unread = models.JSONField(default=list)
    lines = models.PositiveBigIntegerField(default=0)
    rejected = models.PositiveBigIntegerField(default=0)
    first = models.BigIntegerField(null=True)
    last = models.BigIntegerField(null=True)
    zone = models.IntegerField(default=0)

    class Meta:
        constraints = (
            models.UniqueConstraint(fields=("host", "path", "kind", "engine"), name="log_once"),
        )


class LogFile(models.Model):
    """How far a file of a log was read."""

    source = models.ForeignKey(LogSource, on_delete=models.CASCADE, related_name="files")
    path = models.TextField()
    packed = models.BooleanField(default=False)
    device = models.BigIntegerField()
    inode = models.BigIntegerField()
    offset = models.BigIntegerField()
    # A digest of how the file begins: a rotated log may get the inode of one that was removed.
    head = models.CharField(max_length=40)
    head_size = models.PositiveIntegerField()
    done = models.BigIntegerField(default=0)

    class Meta:
        constraints = (
            models.UniqueConstraint(fields=("source", "device", "inode"), name="file_once"),
        )


class LogSpan(models.Model):
    """Where in a file the lines of an hour lie: from `low` on, before `high`, in bytes."""

    file = models.ForeignKey(LogFile, on_delete=models.CASCADE, related_name="spans")
    hour = models.IntegerField()
    low = models.BigIntegerField()
    high = models.BigIntegerField()

    class Meta:
        constraints = (models.UniqueConstraint(fields=("file", "hour"), name="span_once"),)


class RejectedLine(models.Model):
    """A line that could not be read, and why; the first ones of each log are kept."""

    source = models.ForeignKey(LogSource, on_delete=models.CASCADE, related_name="rejected_lines")
    path = models.TextField()
    offset = models.BigIntegerField()
    why = models.CharField(max_length=100)
    text = models.BinaryField()


class LogText(models.Model):
    """A text of the logs, as the bytes that it was."""

    # Addresses and agents are bytes that visitors chose; as text they could neither be stored nor
    # be compared as they are.
    text = models.BinaryField(unique=True)


class LogSite(models.Model):
    """Whose lines are added up: a site, a log that several share, or, as "", a whole server."""

    host = models.CharField(max_length=255)
    key = models.TextField()

    class Meta:
        constraints = (models.UniqueConstraint(fields=("host", "key"), name="log_site_once"),)


class SumBase(models.Model):
    """Requests of one kind in one span of time. at: its number since 1970, UTC. first, last:
    seconds since then. longest: milliseconds, -1 where no line says it; sizes in bytes.
    """

    # The order is that of the questions: one site, one dimension, a span of time. So the key is the
    # only index that is needed.
    pk = models.CompositePrimaryKey("site", "dim", "at", "key", "status", "automatic")
    site = models.ForeignKey(LogSite, on_delete=models.CASCADE, db_index=False, related_name="+")
    dim = models.PositiveSmallIntegerField()
    at = models.IntegerField()
    key = models.ForeignKey(LogText, on_delete=models.DO_NOTHING, db_index=False, related_name="+")
    status = models.PositiveSmallIntegerField()
    automatic = models.BooleanField()
    requests = models.BigIntegerField()
    size = models.BigIntegerField()
    first = models.BigIntegerField()
    last = models.BigIntegerField()
    longest = models.BigIntegerField()
    largest = models.BigIntegerField()

    class Meta:
        abstract = True


class HourSum(SumBase):
    """By the hour."""


class DaySum(SumBase):
    """By the day, so that long ranges are read quickly."""


class VisitRecord(models.Model):
    """One visitor at one site without a long pause."""

    site = models.ForeignKey(LogSite, on_delete=models.CASCADE, related_name="+")
    client = models.ForeignKey(LogText, on_delete=models.DO_NOTHING, related_name="+")
    agent = models.ForeignKey(
        LogText, on_delete=models.DO_NOTHING, db_index=False, related_name="+"
    )
    automatic = models.BooleanField()
    begin = models.BigIntegerField()
    end = models.BigIntegerField()
    requests = models.BigIntegerField()
    pages = models.BigIntegerField()
    entry = models.ForeignKey(
        LogText, on_delete=models.DO_NOTHING, db_index=False, related_name="+"
    )
    exit = models.ForeignKey(LogText, on_delete=models.DO_NOTHING, db_index=False, related_name="+")
    origin_kind = models.CharField(max_length=10)
    origin = models.ForeignKey(
        LogText, on_delete=models.DO_NOTHING, db_index=False, related_name="+"
    )

    class Meta:
        indexes = (models.Index(fields=("site", "begin")), models.Index(fields=("end",)))


class FailureKind(models.Model):
    """What failed: requests that are explained together. client: one of the visitors."""

    site = models.ForeignKey(LogSite, on_delete=models.CASCADE, related_name="+")
    method = models.ForeignKey(
        LogText, on_delete=models.DO_NOTHING, db_index=False, related_name="+"
    )
    path = models.ForeignKey(LogText, on_delete=models.DO_NOTHING, db_index=False, related_name="+")
    host = models.ForeignKey(LogText, on_delete=models.DO_NOTHING, db_index=False, related_name="+")
    status = models.PositiveSmallIntegerField()
    client = models.ForeignKey(
        LogText, on_delete=models.DO_NOTHING, db_index=False, related_name="+"
    )

    class Meta:
        constraints = (
            models.UniqueConstraint(
                fields=("site", "method", "path", "host", "status"), name="failure_kind_once"
            ),
        )


class FailureSum(models.Model):
    """How often, by the hour and visitor."""

    kind = models.ForeignKey(FailureKind, on_delete=models.CASCADE, related_name="sums")
    hour = models.IntegerField()
    client = models.ForeignKey(
        LogText, on_delete=models.DO_NOTHING, db_index=False, related_name="+"
    )
    requests = models.BigIntegerField()
    first = models.BigIntegerField()
    last = models.BigIntegerField()

    class Meta:
        constraints = (
            models.UniqueConstraint(fields=("kind", "hour", "client"), name="failure_once"),
        )
        indexes = (models.Index(fields=("hour",)),)


class ErrorSum(models.Model):
    """What an error log says, by the hour. path: on the disk; reason: as the core calls it."""

    source = models.ForeignKey(LogSource, on_delete=models.CASCADE, related_name="error_sums")
    hour = models.IntegerField()
    level = models.CharField(max_length=20)
    reason = models.CharField(max_length=100)
    path = models.ForeignKey(LogText, on_delete=models.DO_NOTHING, db_index=False, related_name="+")
    requests = models.BigIntegerField()
    first = models.BigIntegerField()
    last = models.BigIntegerField()
    message = models.TextField()

    class Meta:
        constraints = (
            models.UniqueConstraint(
                fields=("source", "hour", "level", "reason", "path"), name="error_once"
            ),
        )


class CauseRecord(models.Model):
    """Why requests fail, by one survey."""

    survey = models.ForeignKey(SurveyRecord, on_delete=models.CASCADE, related_name="causes")
    key = models.CharField(max_length=16)
    whole = models.JSONField()

    class Meta:
        constraints = (models.UniqueConstraint(fields=("survey", "key"), name="cause_once"),)


class KindCause(models.Model):
    """Which cause a kind of failing requests has, by one survey. changes: on its way, the latest
    first. cause: None where the log holds nothing that can be asked again.
    """

    survey = models.ForeignKey(SurveyRecord, on_delete=models.CASCADE, related_name="kinds")
    kind = models.ForeignKey(FailureKind, on_delete=models.CASCADE, related_name="causes")
    cause = models.ForeignKey(CauseRecord, null=True, on_delete=models.CASCADE)
    place = models.TextField(default="")
    changes = models.JSONField(default=list)

    class Meta:
        constraints = (models.UniqueConstraint(fields=("survey", "kind"), name="kind_once"),)


class PlanRecord(models.Model):
    """A plan that is being written, and what became of it. operations: in the plan format. why:
    keys of findings, or words. entry: its number in the ledger, once it was done. checked: the
    addresses that were asked afterwards, with what was rehearsed and what came.
    """

    host = models.CharField(max_length=255)
    title = models.CharField(max_length=200)
    operations = models.JSONField(default=list)
    why = models.JSONField(default=list)
    by = models.CharField(max_length=150)
    made_at = models.DateTimeField(auto_now_add=True)
    changed_at = models.DateTimeField(auto_now=True)
    entry = models.PositiveIntegerField(null=True)
    checked = models.JSONField(default=list)

    class Meta:
        ordering = ("-changed_at", "-id")


class JobRecord(models.Model):
    """A job that loads a survey, reads logs, or has the agent make a change: what it is doing now,
    and how far it is. asked: of a change, what is asked of the agent.
    """

    class Kind(models.TextChoices):
        SURVEY = "survey"
        LOGS = "logs"
        CHANGE = "change"

    class State(models.TextChoices):
        WAITING = "waiting"
        RUNNING = "running"
        DONE = "done"
        FAILED = "failed"
        CANCELLED = "cancelled"

    state = models.CharField(max_length=10, choices=State, default=State.WAITING)
    doing = models.CharField(max_length=200, default="waiting")
    done = models.PositiveIntegerField(default=0)
    total = models.PositiveIntegerField(default=0)
    error = models.TextField(default="")
    kind = models.CharField(max_length=10, choices=Kind, default=Kind.SURVEY)
    file = models.CharField(max_length=100)
    asked_at = models.DateTimeField(auto_now_add=True)
    # Asked for by the screen's process and looked for by the worker's, which alone ends the job.
    cancel = models.BooleanField(default=False)
    survey = models.ForeignKey(SurveyRecord, null=True, on_delete=models.SET_NULL)
    plan = models.ForeignKey(PlanRecord, null=True, on_delete=models.SET_NULL)
    asked = models.JSONField(default=dict)


class PersonRecord(models.Model):
    """What is kept of somebody who may sign in, beside name and password."""

    user = models.OneToOneField(User, on_delete=models.CASCADE, related_name="person")
    # Somebody who was given a password by another does not keep it.
    must_change = models.BooleanField(default=False)
