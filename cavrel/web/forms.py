"""Report templates: those that ship and those of the course, which an instructor writes; the latter run in a sandbox, over data alone."""

from collections.abc import Mapping
from typing import Any

from flask import current_app, render_template
from jinja2 import TemplateError, TemplateSyntaxError
from jinja2.exceptions import SecurityError
from jinja2.sandbox import ImmutableSandboxedEnvironment
from markupsafe import Markup

from cavrel import bounded
from cavrel.core.errors import CavrelError
from cavrel.core.laboratory import Laboratory
from cavrel.web import setting

SHIPPED = {"full": "Full", "one-page": "One page", "exam": "Exam table"}
USUAL = "full"
_LONGEST = 4_000_000


_ran_over: dict[str, str] = {}
"""Forms that ran over their limits, and how: each page with one would cost the same again."""


class _Sandbox(ImmutableSandboxedEnvironment):
    """No loop but over what a report holds, no text made long by arithmetic."""

    intercepted_binops = frozenset(["*", "**"])

    def call_binop(self, context: Any, operator: str, left: Any, right: Any) -> Any:
        if isinstance(left, str | list | tuple) or isinstance(right, str | list | tuple) or operator == "**":
            raise SecurityError("only numbers can be multiplied in a template")
        return super().call_binop(context, operator, left, right)


def _sandbox() -> _Sandbox:
    app = current_app.jinja_env
    made = _Sandbox(loader=app.loader, autoescape=True, trim_blocks=True, lstrip_blocks=True)
    made.filters.update({name: app.filters[name] for name in ("drawn", "slug")})
    for name in ("range", "lipsum", "cycler", "joiner", "namespace"):
        made.globals.pop(name, None)
    return made


def offered(laboratory: Laboratory) -> list[tuple[str, str]]:
    """Name and title of every form."""
    return [*SHIPPED.items(), *((name, form.title) for name, form in laboratory.forms.items() if name not in SHIPPED)]


def chosen(name: str, laboratory: Laboratory) -> str:
    """A form that there is; the usual one for any other name."""
    return name if name in dict(offered(laboratory)) else USUAL


def body(name: str, content: Mapping[str, Any], laboratory: Laboratory, live: bool = False) -> tuple[Markup, str]:
    """A report's body by a form, and what is wrong with the form: then the full one is shown instead. ``live``: it can be edited."""
    if name in SHIPPED:
        return Markup(render_template(f"report/forms/{name}.html", c=content, live=live)), ""
    own = laboratory.forms[name].body
    try:
        if own in _ran_over:
            raise CavrelError("", _ran_over[own])
        return Markup(setting.form(own, content, live)), ""
    except CavrelError as fault:
        if isinstance(fault, bounded.Over) and fault.surely:
            _ran_over[own] = fault.what
        whole, _ = body(USUAL, content, laboratory, live)
        return (
            whole,
            f"The template “{laboratory.forms[name].title}” cannot be used: {fault}. The full report is shown instead.",
        )


def rendered(text: str, content: Mapping[str, Any], live: bool = False) -> Markup:
    """A form's text over a report's content. Raises CavrelError with the line at fault."""
    try:
        made = _sandbox().from_string(text).render(c=content, live=live)
    except TemplateSyntaxError as fault:
        raise CavrelError(f"line {fault.lineno}", str(fault.message)) from fault
    except RecursionError as fault:
        raise CavrelError("", "it includes itself") from fault
    except (TemplateError, TypeError, ValueError, LookupError, ArithmeticError, AttributeError) as fault:
        raise CavrelError(_line(fault), str(fault) or type(fault).__name__) from fault
    if len(made) > _LONGEST:
        raise CavrelError("", "the report would be too long")
    return Markup(made)


def _line(fault: BaseException) -> str:
    trace, line = fault.__traceback__, 0
    while trace is not None:
        if trace.tb_frame.f_code.co_filename == "<template>":
            line = trace.tb_lineno
        trace = trace.tb_next
    return f"line {line}" if line else ""


def source(name: str) -> str:
    """The text of a form that ships, to begin one's own from."""
    env = current_app.jinja_env
    assert env.loader is not None
    return env.loader.get_source(env, f"report/forms/{name}.html")[0]
