"""Which course an address means: the one that it names, the only one there is, or the one that this browser chose last."""

from collections.abc import Callable
from typing import Any

from flask import Blueprint, Flask, abort, g, redirect, request, session, url_for

from cavrel.present import decimals, zones
from cavrel.service.laboratories import laboratory_of
from cavrel.store import courses as store
from cavrel.store.courses import Bench, Course
from cavrel.store.pool import Connection

NAMED = "/courses/<course>"


class CoursePages(Blueprint):
    """Pages of a course. Each has two addresses: ``/courses/evening/lessons``, and ``/lessons`` for a server with one course."""

    def add_url_rule(
        self,
        rule: str,
        endpoint: str | None = None,
        view_func: Callable[..., Any] | None = None,
        *args: Any,
        **more: Any,
    ) -> None:
        """Both addresses of a page."""
        super().add_url_rule(rule, endpoint, view_func, *args, defaults={"course": ""}, **more)
        super().add_url_rule(f"{NAMED}{rule}", endpoint, view_func, *args, **more)


def carry(app: Flask) -> None:
    """Let every address that a page of a course makes name the same course."""

    @app.url_value_preprocessor
    def _said(_endpoint: str | None, values: dict[str, Any] | None) -> None:
        zones.tell_in("")
        decimals.write_with("point")
        g.said = values.pop("course", "") if values else ""

    @app.url_defaults
    def _carried(endpoint: str, values: dict[str, Any]) -> None:
        if "course" not in values and app.url_map.is_endpoint_expecting(endpoint, "course"):
            values["course"] = g.get("course", "")


def meant(connection: Connection) -> Course | None:
    """The course that the address means, or None where several could be meant, or there is none. Answers 404 for a name that there is not."""
    found = store.courses(connection)
    said = g.get("said", "")
    g.several = len(found) > 1
    wanted = said or (session.get("course", "") if g.several else "")
    course = next((one for one in found if one.slug == wanted), None)
    if said and course is None:
        abort(404)
    if course is None and len(found) == 1:
        course = found[0]
    if course is not None:
        rules = laboratory_of(connection, course.id, course.version, course.digest).house_rules()
        stay(course.slug if g.several else "", course.zone, rules.decimal)
        # What a page asks for by itself is not looked at by anybody.
        looked_at = request.method == "GET" and not request.path.endswith(".json")
        if g.several and looked_at and session.get("course") != course.slug:
            session["course"] = course.slug
    return course


def stay(slug: str, zone: str, decimal: str) -> None:
    """Let the page's other addresses be those of this course, its times be told in its zone, its decimals be written by its house rule.
    ``slug``: empty for the only course."""
    g.course = slug
    zones.tell_in(zone)
    decimals.write_with(decimal)


def course_of(connection: Connection) -> tuple[Course, list[Bench]]:
    """The course that the address means, with its benches; where none can be meant, the page that begins or chooses one answers."""
    course = meant(connection)
    if course is None:
        if request.method in ("GET", "HEAD") and not request.path.endswith(".json"):
            abort(redirect(url_for("courses.page") if g.several else url_for("courses.new")))
        abort(409, "There are several courses: say which one, as in /courses/NAME/…" if g.several else NO_COURSE)
    if not g.said and g.several and request.method in ("GET", "HEAD"):
        abort(redirect(_named()))
    return course, store.benches(connection, course.id)


def _named() -> str:
    """This address with the course's name in it."""
    named: dict[str, Any] = {**(request.view_args or {}), **request.args.to_dict(False)}
    return url_for(request.endpoint or "experiments.page", **named)


NO_COURSE = "There is no course yet. Open /courses/new in a browser, or run: cavrel course new"
