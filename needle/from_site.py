"""Documents of a job that is kept on a site, read by its interface for programs."""

from __future__ import annotations

import json
from dataclasses import dataclass
from http.client import HTTPException
from typing import Any, NoReturn
from urllib.error import HTTPError, URLError
from urllib.parse import quote, urlsplit
from urllib.request import HTTPRedirectHandler, Request, build_opener

from needle.document import DocumentError, parse_json

#: Path of the interface on a site.
INTERFACE = "/api/v1/"
TIMEOUT_S = 60.0
MOST_BYTES = 50_000_000


class _StaysThere(HTTPRedirectHandler):
    """A token goes to the address that was given, and to no other."""

    def redirect_request(self, *_args: Any) -> NoReturn:
        raise DocumentError("--from", "leads to another address: give that one")


@dataclass(frozen=True)
class Site:
    """A site's interface, and the token of a job.

    Attributes
    ----------
    url : str
        Address of the site, or of its interface.
    token : str
    """

    url: str
    token: str

    def document(self, path: str) -> Any:
        """Return a document, such as that of ``plans/current/``.

        Raises
        ------
        DocumentError
            The site cannot be reached, or refuses; with its sentence.
        """
        headers = {"Authorization": f"Bearer {self.token}"}
        # Its address begins with http or https.
        request = Request(self._address(path), headers=headers)  # noqa: S310
        try:
            with build_opener(_StaysThere).open(request, timeout=TIMEOUT_S) as response:
                content = response.read(MOST_BYTES + 1)
        except HTTPError as error:
            raise DocumentError("--from", _refusal(error)) from None
        except (URLError, HTTPException, OSError, ValueError) as error:
            why = getattr(error, "reason", error)
            raise DocumentError("--from", f"{self.url[:100]} cannot be reached: {why}") from None
        if len(content) > MOST_BYTES:
            raise DocumentError("--from", f"sent more than {MOST_BYTES // 1_000_000} MB")
        return parse_json(content, path)

    def _address(self, path: str) -> str:
        parts = urlsplit(self.url)
        if parts.scheme not in ("http", "https") or not parts.hostname:
            raise DocumentError("--from", f"“{self.url[:100]}” is not like https://example.org/")
        start = self.url.rstrip("/").removesuffix(INTERFACE.rstrip("/"))
        return f"{start}{INTERFACE}{quote(path)}"


def _refusal(error: HTTPError) -> str:
    """What a site says of why it refuses; its status if it says nothing."""
    try:
        detail = json.loads(error.read(10_000))["detail"]
    except (ValueError, KeyError, TypeError, OSError):
        detail = error.reason
    return f"refused ({error.code}): {str(detail)[:300]}"
