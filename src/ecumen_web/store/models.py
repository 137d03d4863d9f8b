"""What is kept: surveys that were loaded, their sites, and the jobs that load them."""

from __future__ import annotations

from django.db import models


class SurveyRecord(models.Model):
    """A loaded survey; its file lies in the surveys folder under `file`."""

    host = models.CharField(max_length=255)
    taken_at = models.DateTimeField()
    loaded_at = models.DateTimeField(auto_now_add=True)
    file = models.CharField(max_length=100)
    digest = models.CharField(max_length=64, unique=True)
    paths = models.PositiveIntegerField()
    engines = models.JSONField(default=list)
    gaps = models.JSONField(default=list)
    breaks = models.JSONField(default=list)
    failed_checks = models.JSONField(default=list)

    class Meta:
        ordering = ("-taken_at", "-id")

    @property
    def version(self) -> str:
        """Another one, once the survey was loaded anew: its last site's and finding's numbers."""
        last = models.Max("id")
        site = self.sites.order_by().aggregate(last=last)["last"]
        finding = self.findings.order_by().aggregate(last=last)["last"]
        return f"{self.digest} {site} {finding}"


class SiteRecord(models.Model):
    """One site of a survey, with what a visitor meets who asks for its front page."""

    survey = models.ForeignKey(SurveyRecord, on_delete=models.CASCADE, related_name="sites")
    position = models.PositiveIntegerField()
    engine = models.CharField(max_length=10)
    name = models.CharField(max_length=300)
    personal = models.BooleanField(default=False)
    declared_at = models.CharField(max_length=4200)
    binding = models.CharField(max_length=300)
    root = models.CharField(max_length=4100, null=True)
    owner = models.CharField(max_length=300, null=True)
    url = models.CharField(max_length=1000)
    to = models.CharField(max_length=50)
    state = models.CharField(max_length=10)
    status = models.PositiveSmallIntegerField(null=True)
    gate = models.CharField(max_length=10)
    reason = models.TextField()
    obstacles = models.PositiveSmallIntegerField()
    behind = models.BooleanField(default=False)
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
    at = models.DateTimeField(auto_now_add=True)

    class Meta:
        constraints = (models.UniqueConstraint(fields=("host", "key"), name="accepted_once"),)


class JobRecord(models.Model):
    """A job that loads a survey: what it is doing now, and how far it is."""

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
    file = models.CharField(max_length=100)
    asked_at = models.DateTimeField(auto_now_add=True)
    cancel = models.BooleanField(default=False)
    survey = models.ForeignKey(SurveyRecord, null=True, on_delete=models.SET_NULL)
