"""The API under /api/, and the screen everywhere else: its own router knows the places."""

from django.urls import path, re_path

from ecumen_web.api import jobs, passage, reply, session, sites, surveys
from ecumen_web.screen import screen

urlpatterns = [
    path("api/session", session.SessionView.as_view()),
    path("api/surveys", surveys.SurveysView.as_view()),
    path("api/jobs/<int:number>", jobs.JobView.as_view()),
    path("api/surveys/<str:survey>/sites", sites.SitesView.as_view()),
    path("api/surveys/<str:survey>/passage", passage.PassageView.as_view()),
    path("api/surveys/<str:survey>/reply", reply.ReplyView.as_view()),
    re_path(r"^(?!api/|static/|assets/).*$", screen),
]
