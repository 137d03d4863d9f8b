"""Long jobs: how far they are, and stopping them."""

from __future__ import annotations

from drf_spectacular.utils import OpenApiParameter, extend_schema
from rest_framework import serializers
from rest_framework.request import Request
from rest_framework.response import Response
from rest_framework.views import APIView

from ecumen_web.api.problems import one_of
from ecumen_web.store.models import JobRecord

_MISSING = "No work has this number: it may be gone."

MOST_JOBS = 20
_NUMBER = OpenApiParameter("number", int, "path")


class JobSerializer(serializers.ModelSerializer[JobRecord]):
    class Meta:
        model = JobRecord
        fields = ("id", "kind", "state", "doing", "done", "total", "error", "survey", "plan")


class JobsView(APIView):
    @extend_schema(responses=JobSerializer(many=True))
    def get(self, request: Request) -> Response:
        """What is under way: the jobs that run, then those that wait."""
        states = (JobRecord.State.RUNNING, JobRecord.State.WAITING)
        rows = sorted(
            JobRecord.objects.filter(state__in=states)[:MOST_JOBS],
            key=lambda job: (states.index(JobRecord.State(job.state)), job.pk),
        )
        return Response(JobSerializer(rows, many=True).data)


class JobView(APIView):
    @extend_schema(parameters=[_NUMBER], responses=JobSerializer)
    def get(self, request: Request, number: int) -> Response:
        """What a job is doing now."""
        return Response(JobSerializer(one_of(JobRecord.objects, _MISSING, pk=number)).data)

    @extend_schema(parameters=[_NUMBER], request=None, responses={200: JobSerializer})
    def delete(self, request: Request, number: int) -> Response:
        """Asks a job to stop; it does at its next step."""
        job = one_of(JobRecord.objects, _MISSING, pk=number)
        # This field alone: the worker writes the others at the same time.
        JobRecord.objects.filter(pk=job.pk).update(cancel=True)
        return Response(JobSerializer(job).data)
