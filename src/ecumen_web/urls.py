"""The API under /api/, and the screen everywhere else: its own router knows the places."""

from django.urls import path, re_path, register_converter

from ecumen_web.api import (
    bindings,
    changes,
    engines,
    findings,
    founding,
    jobs,
    logs,
    passage,
    plans,
    reply,
    rights,
    roots,
    seals,
    session,
    sheet,
    sites,
    starts,
    surveys,
)
from ecumen_web.screen import screen


class Number:
    """A number that a record may have: the store knows no larger ones."""

    regex = "[0-9]{1,18}"

    def to_python(self, text: str) -> int:
        return int(text)

    def to_url(self, number: int) -> str:
        return str(number)


register_converter(Number, "number")

urlpatterns = [
    path("api/session", session.SessionView.as_view()),
    path("api/session/password", session.PasswordView.as_view()),
    path("api/session/calendar", seals.AddressEndpoint.as_view()),
    path("api/surveys", surveys.SurveysView.as_view()),
    path("api/surveys/<str:survey>", surveys.SurveyView.as_view()),
    path("api/plans", plans.PlansView.as_view()),
    path("api/plans/<number:number>", plans.PlanView.as_view()),
    path("api/plans/<number:number>/apply", plans.ApplyView.as_view()),
    path("api/ledger", plans.LedgerView.as_view()),
    path("api/ledger/<number:number>/undo", plans.UndoView.as_view()),
    path("api/ledger/<number:number>/keep", plans.KeepView.as_view()),
    path("api/jobs", jobs.JobsView.as_view()),
    path("api/jobs/<number:number>", jobs.JobView.as_view()),
    path("api/surveys/<str:survey>/sites", sites.SitesView.as_view()),
    path("api/surveys/<str:survey>/bindings", bindings.BindingsView.as_view()),
    path("api/surveys/<str:survey>/changes", changes.ChangesView.as_view()),
    path("api/surveys/<str:survey>/findings", findings.FindingsView.as_view()),
    path("api/surveys/<str:survey>/findings/<str:key>", findings.FindingView.as_view()),
    path(
        "api/surveys/<str:survey>/findings/<str:key>/acceptance",
        findings.AcceptanceView.as_view(),
    ),
    path("api/surveys/<str:survey>/mending", rights.MendingEndpoint.as_view()),
    path("api/surveys/<str:survey>/rehearsal/<number:number>", plans.RehearsalEndpoint.as_view()),
    path("api/surveys/<str:survey>/new-site", founding.FoundingEndpoint.as_view()),
    path("api/surveys/<str:survey>/opening", founding.OpeningEndpoint.as_view()),
    path("api/surveys/<str:survey>/naming", founding.NamingEndpoint.as_view()),
    path("api/surveys/<str:survey>/users", rights.UsersEndpoint.as_view()),
    path("api/surveys/<str:survey>/contexts", rights.ContextsEndpoint.as_view()),
    path("api/surveys/<str:survey>/engines", engines.EnginesEndpoint.as_view()),
    path("api/surveys/<str:survey>/seals", seals.SealsEndpoint.as_view()),
    path("api/surveys/<str:survey>/seals.ics", seals.CalendarEndpoint.as_view()),
    path("api/surveys/<str:survey>/neighbours", rights.NeighboursEndpoint.as_view()),
    path("api/surveys/<str:survey>/who", rights.WhoEndpoint.as_view()),
    path("api/surveys/<str:survey>/logs", logs.LogsEndpoint.as_view()),
    path("api/surveys/<str:survey>/logs/figures", logs.FiguresEndpoint.as_view()),
    path("api/surveys/<str:survey>/logs/failures", logs.FailuresEndpoint.as_view()),
    path("api/surveys/<str:survey>/logs/lines", logs.LinesEndpoint.as_view()),
    path("api/surveys/<str:survey>/logs/<number:log>/rejected", logs.RejectedEndpoint.as_view()),
    path("api/surveys/<str:survey>/lookup", starts.LookupEndpoint.as_view()),
    path("api/surveys/<str:survey>/starts", starts.StartsEndpoint.as_view()),
    path("api/surveys/<str:survey>/site", sheet.SheetView.as_view()),
    path("api/surveys/<str:survey>/passage", passage.PassageView.as_view()),
    path("api/surveys/<str:survey>/roots", roots.RootsView.as_view()),
    path("api/surveys/<str:survey>/reply", reply.ReplyView.as_view()),
    re_path(r"^(?!api/|static/|assets/).*$", screen),
]
