"""Who is let in: requests for a name this server goes by, and forms from its own pages."""

import ipaddress
import os
import socket
from urllib.parse import urlsplit

from flask import Flask, abort, request
from flask.sessions import SecureCookieSessionInterface


def _names() -> frozenset[str]:
    """Names besides addresses: this machine's, and those in ``CAVREL_NAMES``."""
    own = socket.gethostname().lower()
    listed = os.environ.get("CAVREL_NAMES", "").lower().replace(",", " ").split()
    return frozenset({"localhost", own, f"{own}.local", *listed})


def known(host: str) -> bool:
    """Whether a Host header names this server: by a number, which no other site can make its own, or by one of its names."""
    try:
        name = (urlsplit(f"//{host}").hostname or "").lower()
        if name in _names():
            return True
        ipaddress.ip_address(name)
    except ValueError:
        return False
    return True


def guard() -> None:
    """Refuse a name that was bent to this address, and a form sent from another site's page."""
    if "\x00" in request.path:
        abort(404)  # no page has such an address, and no database can look for one
    if not known(request.host):
        abort(421, f"'{request.host[:80]}' is no name of this server. Add it to CAVREL_NAMES where it is started.")
    origin = request.headers.get("Origin")
    if (
        request.method not in ("GET", "HEAD", "OPTIONS")
        and origin is not None
        and urlsplit(origin).netloc != request.host
    ):
        abort(403, "This form was sent from another site's page.")


class Sessions(SecureCookieSessionInterface):
    """The session's cookie, kept to TLS wherever the page came over it."""

    def get_cookie_secure(self, app: Flask) -> bool:
        return request.is_secure or os.environ.get("CAVREL_TLS", "").lower() in ("1", "yes", "true")
