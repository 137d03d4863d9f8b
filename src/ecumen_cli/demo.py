"""`ecumen demo`: the made-up server, loaded and served."""

from __future__ import annotations

import io
import os
import time

import click

from ecumen_cli.rootless import AS_ROOT, NAMED, without_root
from ecumen_cli.said import say


@click.command()
@click.option("--port", default=8420, show_default=True, type=click.IntRange(1, 65534))
@NAMED
@AS_ROOT
def demo(port: int, account: str, as_root: bool) -> None:
    """Loads the demo server and serves the web application on loopback."""
    from platformdirs import user_data_path

    # The demo keeps its records apart from those of real servers.
    os.environ.setdefault("ECUMEN_HOME", str(user_data_path("ecumen-demo")))
    from ecumen_web import server

    listening = server.bound("127.0.0.1", port)
    without_root(account, as_root)
    server.prepare()
    from django.conf import settings

    from ecumen.survey import write_survey
    from ecumen_demo import Moment, StandIn, demo_survey
    from ecumen_demo.changes import LOADED, loaded
    from ecumen_web.queue import ask_for_logs
    from ecumen_web.store.models import SurveyRecord
    from ecumen_web.surveys.loading import keep_file, load_kept

    for moment in (Moment.WEEK_BEFORE, Moment.NOW):
        stream = io.BytesIO()
        write_survey(demo_survey(moment), stream)
        stream.seek(0)
        load_kept(keep_file(stream), lambda *step: None, SurveyRecord.Origin.DEMO)
    state = settings.HOME / "stand-in"
    survey = loaded(state)
    latest = SurveyRecord.objects.all()[0]
    password = server.demo_account("demo")
    settings.REACHED = {
        SurveyRecord.Origin.DEMO: {
            "logs": str(settings.HOME / "quay"),
            "made_by": "ecumen_demo.visitors.ensure_logs",
            "answers_at": ("127.0.0.1", port + 1),
            "ahead": latest.taken_at.timestamp() - time.time(),
            "changed_by": "ecumen_demo.changes.agent",
            "state": str(state),
        }
    }
    ask_for_logs(latest)
    with StandIn(survey, port + 1, settings.HOME / "quay", state / LOADED) as stand_in:
        say(f"Ecumen is at http://127.0.0.1:{port}/")
        say(f"Demo account: demo, password: {password}")
        say(f"The stand-in server answers at {stand_in.address} (name the site as Host)")
        server.run(listening)
