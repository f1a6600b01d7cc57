"""Access to jobs: one object decides what somebody may see and change of a job."""

from __future__ import annotations

from collections.abc import Callable, Iterator
from contextlib import contextmanager
from contextvars import ContextVar
from dataclasses import dataclass
from functools import cache, wraps
from typing import Any, overload
from urllib.parse import urlsplit

from django.core.exceptions import PermissionDenied
from django.http import HttpRequest, HttpResponse
from django.shortcuts import get_object_or_404
from django.urls import Resolver404, URLPattern, URLResolver, get_resolver, resolve
from django.utils import timezone

from web.jobs.models import Change, Job, Role

View = Callable[..., HttpResponse]
#: Methods that change nothing.
SAFE = ("GET", "HEAD", "OPTIONS")


@dataclass(frozen=True)
class Access:
    """What somebody, or a program with a token, may do in a job.

    ``who`` is the name that changes are recorded under; ``user_id`` is the account, None for a
    program and for somebody with a link.
    """

    job: Job
    role: Role
    who: str
    user_id: int | None = None

    def may(self, needed: Role) -> bool:
        return self.role >= needed

    @property
    def may_measure(self) -> bool:
        return self.may(Role.MEASURER)

    @property
    def owns(self) -> bool:
        return self.may(Role.OWNER)

    def may_undo(self, change: Change) -> bool:
        """The owner takes back every change, others only their own."""
        own = self.user_id is not None and change.user_id == self.user_id
        return self.may(Role.OWNER) or (self.may(Role.MEASURER) and own)

    def check(self, needed: Role) -> None:
        """Refuse what this role may not do.

        Raises
        ------
        PermissionDenied
            Its sentence says who may.
        """
        if not self.may(needed):
            owner = self.job.owner.get_username()
            raise PermissionDenied(
                f"{REFUSED[needed]} You are a {self.role.words} of {owner}’s job."
            )


REFUSED = {
    Role.VIEWER: "A link shows one thing and nothing else.",
    Role.MEASURER: "Only those who measure may enter something here.",
    Role.OWNER: "Only the owner may do this.",
}

_acting: ContextVar[Access | None] = ContextVar("acting", default=None)


def acting() -> Access | None:
    """The access that is being used now; None outside of a request for a job."""
    return _acting.get()


@contextmanager
def acting_as(access: Access) -> Iterator[None]:
    """Record changes under this access, and show times by the job's own clock."""
    token = _acting.set(access)
    try:
        with timezone.override(access.job.clock):
            yield
    finally:
        _acting.reset(token)


def access_of(user: Any, job: int) -> Access:
    """A user's access to a job by its number.

    Raises
    ------
    Http404
        There is no such job, or it is not theirs: nobody learns which.
    """
    # Mostly it is their own: asked for by itself, without who else is at it.
    own = Job.objects.live().filter(owner=user, pk=job).first()
    return _access(user, own or get_object_or_404(Job.objects.visible_to(user), pk=job))


def access_list(user: Any) -> list[Access]:
    """A user's access to every job that they own or are at, by name."""
    return [
        _access(user, record) for record in Job.objects.visible_to(user).select_related("owner")
    ]


def _access(user: Any, record: Any) -> Access:
    role = Role.OWNER if record.owner_id == user.pk else Role.of(record.member_role)
    return Access(record, role, user.get_username(), user.pk)


@dataclass(frozen=True)
class Needs:
    """The roles that are needed to open an address, and to change something with it."""

    see: Role
    post: Role

    def of(self, method: str) -> Role:
        return self.see if method in SAFE else self.post


@overload
def of_job(view: View) -> View: ...
@overload
def of_job(*, see: Role = ..., post: Role = ...) -> Callable[[View], View]: ...
def of_job(view: View | None = None, *, see: Role = Role.VIEWER, post: Role = Role.OWNER) -> Any:
    """Pass the :class:`Job` to a view instead of its number, if the user's role suffices.

    Unless said otherwise, all who are at the job see a page, and only its owner changes with it.
    """
    needs = Needs(see, max(see, post))
    return _guarded(view, needs) if view else lambda view: _guarded(view, needs)


def _guarded(view: View, needs: Needs) -> View:
    @wraps(view)
    def inner(request: HttpRequest, job: int, *args: Any, **kwargs: Any) -> HttpResponse:
        access = access_of(request.user, job)
        with acting_as(access):
            access.check(needs.of(str(request.method)))
            return view(request, access.job, *args, **kwargs)

    inner.needs = needs  # type: ignore[attr-defined]
    return inner


def may_open(path: str) -> bool:
    """Whether the role in use suffices to open a path of this site, with its query."""
    try:
        needs: Needs | None = getattr(resolve(urlsplit(path).path).func, "needs", None)
    except Resolver404:
        return False
    access = acting()
    return needs is None or (access is not None and access.may(needs.see))


@cache
def _needs_by_name() -> dict[str, Needs]:
    """What each named address of a job needs."""
    found = {}

    def walk(patterns: Any, space: str) -> None:
        for item in patterns:
            if isinstance(item, URLResolver):
                walk(item.url_patterns, f"{space}{item.namespace}:" if item.namespace else space)
            elif isinstance(item, URLPattern) and hasattr(item.callback, "needs"):
                found[f"{space}{item.name}"] = item.callback.needs

    walk(get_resolver().url_patterns, "")
    return found


def needs_of(name: str) -> Needs:
    """What a named address of a job needs, such as "plans:edit"."""
    return _needs_by_name()[name]
