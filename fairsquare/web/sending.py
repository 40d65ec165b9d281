"""What is sent to be kept: files with their names, and links that lead back here."""

import ipaddress
import socket
from urllib.parse import quote, urlsplit

from fastapi import Request, Response

_LOOPBACK = frozenset({"localhost", "127.0.0.1", "::1"})


def download(content: bytes, media_type: str, name: str, *, inline: bool = False) -> Response:
    """Return content as a file of that name."""
    return Response(content, media_type=media_type, headers={"content-disposition": disposition(name, inline=inline)})


def disposition(name: str, *, inline: bool = False) -> str:
    """Return the header that names a file (RFC 6266): as it is for what reads UTF-8, in plain letters for what does not."""
    plain = "".join(letter if letter.isascii() and (letter.isalnum() or letter in "-._") else "-" for letter in name)
    how = f'{"inline" if inline else "attachment"}; filename="{plain}"'
    if plain == name:
        return how
    return f"{how}; filename*=UTF-8''{quote(name.encode(errors='replace'), safe='')}"


def full_link(request: Request, path: str) -> str:
    """Return a link that somebody elsewhere can follow: from the address that the shop configured, else from the socket that
    answered; never from what the request says of itself."""
    configured: str = request.app.state.settings.address
    if configured:
        return configured.rstrip("/") + path
    host, port = request.scope.get("server") or ("localhost", None)
    shown = f"[{host}]" if ":" in host else host
    scheme = "https" if request.app.state.settings.https else "http"
    usual = port in (None, 443 if scheme == "https" else 80)
    return f"{scheme}://{shown}{'' if usual else f':{port}'}{path}"


def is_our_host(said: str, configured: str, server: str) -> bool:
    """Return whether a request's Host is a name of ours: the configured one, this machine's, or the address that it came to."""
    host = (urlsplit(f"//{said}").hostname or "") if _could_be_host(said) else ""
    if not host:
        return False
    own = {urlsplit(configured).hostname, server.lower(), *_LOOPBACK}
    if not configured:
        own.add(socket.gethostname().lower())
    return host in own or (not configured and _is_address(host) and _is_address(server))


def _could_be_host(said: str) -> bool:
    try:
        return urlsplit(f"//{said}").hostname is not None
    except ValueError:
        return False


def _is_address(host: str) -> bool:
    try:
        ipaddress.ip_address(host)
    except ValueError:
        return False
    return True
