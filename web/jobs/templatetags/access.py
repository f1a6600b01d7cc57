"""Parts of pages that only some of those who are at a job are shown."""

from __future__ import annotations

from typing import Any

from django import template
from django.template.base import FilterExpression, NodeList, Parser, Token
from django.template.context import Context

from web.jobs.access import acting, may_open, needs_of
from web.jobs.models import Job

register = template.Library()


#: Jobs in the menu of every page.
MOST_SWITCHED = 30


@register.filter
def jobs_of(user: Any) -> Any:
    """Jobs that a user owns or is at, the first by name: the list of jobs has them all."""
    return Job.objects.visible_to(user).values("pk", "name")[:MOST_SWITCHED]


@register.filter
def if_open(path: str) -> str:
    """A path that the role in use may open; empty otherwise."""
    return path if path and may_open(path) else ""


class MayNode(template.Node):
    """Its content, where the role in use suffices for an address."""

    child_nodelists = ("shown", "otherwise")

    def __init__(
        self, name: FilterExpression, changes: bool, shown: NodeList, otherwise: NodeList
    ) -> None:
        self.name, self.changes = name, changes
        self.shown, self.otherwise = shown, otherwise

    def render(self, context: Context) -> str:
        access = acting()
        needs = needs_of(self.name.resolve(context))
        needed = needs.post if self.changes else needs.see
        part = self.shown if access is not None and access.may(needed) else self.otherwise
        return str(part.render(context))


def _may(parser: Parser, token: Token) -> MayNode:
    tag, name = token.split_contents()
    end = f"end{tag}"
    shown = parser.parse(("otherwise", end))
    otherwise = NodeList()
    if parser.next_token().contents == "otherwise":
        otherwise = parser.parse((end,))
        parser.delete_first_token()
    return MayNode(parser.compile_filter(name), tag == "may_post", shown, otherwise)


@register.tag
def may_see(parser: Parser, token: Token) -> MayNode:
    """``{% may_see "plans:edit" %}…{% otherwise %}…{% endmay_see %}``: for who may open it."""
    return _may(parser, token)


@register.tag
def may_post(parser: Parser, token: Token) -> MayNode:
    """As ``may_see``, for those who may change something with that address."""
    return _may(parser, token)
