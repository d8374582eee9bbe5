"""The requests themselves: addresses, authorization, problems, pages."""

from __future__ import annotations

import ssl
import uuid
from collections.abc import Callable, Iterator
from datetime import datetime
from email.utils import parsedate_to_datetime
from types import TracebackType
from typing import IO, Any, Self, TypeVar

import httpx
from pydantic import BaseModel, TypeAdapter

from phylax import __version__
from phylax.client._errors import ClearHttpError, UnreachableError, from_response
from phylax.core.notices import is_loopback

T = TypeVar("T")
_PREFIX = "/api/v1"


def check_way(url: str, clear: bool) -> None:
    """ClearHttpError where others on the way could read what is sent, and nobody allowed that."""
    address = httpx.URL(url)
    if address.scheme != "https" and not clear and not is_loopback(address.host):
        raise ClearHttpError(
            f"{url}: without TLS everybody on the way to {address.host} reads passwords and keys. "
            "Give the service a certificate and say https, or say that clear HTTP is wanted."
        )


def trusted(url: str, certificate: str | None) -> ssl.SSLContext | bool:
    """Whom a connection trusts: a certificate of the shop's own alone, else the authorities that
    the system knows."""
    if certificate is not None:
        return ssl.create_default_context(cafile=certificate)
    return not url.startswith("http:")


class Http:
    """A connection to one service with one secret. Safe to share between threads."""

    def __init__(
        self,
        url: str,
        secret: str | None = None,
        *,
        timeout: float = 30.0,
        told_time: Callable[[datetime], None] | None = None,
        transport: httpx.BaseTransport | None = None,
        clear: bool = False,
        certificate: str | None = None,
    ) -> None:
        """`told_time` is called with the service's time whenever it answers (`Date`, RFC 9110).

        `clear` allows http to another host than this one: ClearHttpError without. `certificate` is
        a file with the shop's own certificate (PEM), the only one that is trusted then.
        """
        check_way(url, clear)
        secret = _checked_secret(secret)
        self._told_time = told_time
        headers = {"User-Agent": f"phylax/{__version__}", "Accept": "application/json"}
        if secret:
            headers["Authorization"] = f"Bearer {secret}"
        self.url = url.rstrip("/")
        self.secret = secret
        # loading the list of authorities takes longer than a request; without TLS nothing asks it
        self._client = httpx.Client(
            base_url=self.url,
            headers=headers,
            timeout=timeout,
            verify=trusted(self.url, certificate),
            transport=transport,
        )

    def __enter__(self) -> Self:
        return self

    def __exit__(
        self,
        kind: type[BaseException] | None,
        error: BaseException | None,
        traceback: TracebackType | None,
    ) -> None:
        self.close()

    def close(self) -> None:
        self._client.close()

    def send(
        self,
        method: str,
        path: str,
        *,
        body: BaseModel | None = None,
        content: bytes | None = None,
        params: dict[str, Any] | None = None,
        headers: dict[str, str] | None = None,
        timeout: float | None = None,
    ) -> httpx.Response:
        """Send a request; UnreachableError or a RefusedError where it fails."""
        headers = dict(headers or {})
        if content is not None:
            headers["Content-Type"] = "application/octet-stream"
        if body is not None:
            content = body.model_dump_json(exclude_none=True).encode()
            headers["Content-Type"] = "application/json"
        if method == "POST":
            # if the answer is lost, the same request may be sent again without being done twice
            headers.setdefault("Idempotency-Key", uuid.uuid4().hex)
        request = self._client.build_request(
            method,
            path if path.startswith(_PREFIX) else _PREFIX + path,
            content=content,
            # None, not an empty dict: that would strip the query of a next page's address
            params={k: v for k, v in (params or {}).items() if v is not None} or None,
            headers=headers,
            timeout=timeout if timeout is not None else httpx.USE_CLIENT_DEFAULT,
        )
        try:
            response = self._client.send(request)
        except httpx.TransportError as error:
            raise UnreachableError(
                f"{self.url} could not be reached: {error}", answered=_was_answered(error)
            ) from error
        if response.is_error:
            raise from_response(response)
        self._answered(response)
        return response

    def _answered(self, response: httpx.Response) -> None:
        """The service answered, and not with an error."""
        if self._told_time is not None and (date := _date_of(response)) is not None:
            self._told_time(date)

    def download(self, path: str, to: IO[bytes], *, timeout: float | None = None) -> int:
        """Write what comes into a file; how many bytes. Half of it is UnreachableError."""
        address = _PREFIX + path
        try:
            with self._client.stream("GET", address, timeout=timeout) as response:
                if response.is_error:
                    response.read()
                    raise from_response(response)
                return sum(to.write(piece) for piece in response.iter_bytes())
        except httpx.TransportError as error:
            raise UnreachableError(
                f"{self.url} could not be reached: {error}", answered=_was_answered(error)
            ) from error

    def get(self, kind: type[T], path: str, /, **params: Any) -> T:
        return _parse(kind, self.send("GET", path, params=params))

    def post(
        self, kind: type[T], path: str, body: BaseModel | None = None, version: int | None = None
    ) -> T:
        headers = {} if version is None else {"If-Match": f'"{version}"'}
        return _parse(kind, self.send("POST", path, body=body, headers=headers))

    def upload(self, kind: type[T], path: str, content: bytes, **params: Any) -> T:
        """Bytes as they are."""
        return _parse(kind, self.send("POST", path, content=content, params=params))

    def put(self, kind: type[T], path: str, body: BaseModel, version: int | None) -> T:
        """Replace what has a version; the version is the one that was read and edited."""
        headers = {} if version is None else {"If-Match": f'"{version}"'}
        return _parse(kind, self.send("PUT", path, body=body, headers=headers))

    def delete(self, path: str, version: int | None = None) -> None:
        headers = {} if version is None else {"If-Match": f'"{version}"'}
        self.send("DELETE", path, headers=headers)

    def pages(self, kind: type[T], path: str, /, **params: Any) -> Iterator[T]:
        """Every element of a paged listing; pages are fetched as they are needed."""
        response = self.send("GET", path, params=params)
        while True:
            yield from _parse(list[kind], response)  # type: ignore[valid-type]
            following = response.links.get("next")
            if following is None:
                return
            response = self.send("GET", following["url"])


def _checked_secret(secret: str | None) -> str | None:
    """A secret as it may stand in a header; files of secrets often end with a line break.
    ValueError, which does not repeat it, where it is none."""
    if secret is None:
        return None
    stripped = secret.strip()
    if not (stripped.isascii() and stripped.isprintable()) or " " in stripped:
        raise ValueError("this is no token: a token is one word of letters, digits, - and _")
    return stripped


def _was_answered(error: httpx.TransportError) -> bool:
    """Whether something of the service's machine came back: it refused, or broke off."""
    if isinstance(error, (httpx.ReadError, httpx.WriteError, httpx.RemoteProtocolError)):
        return True
    cause: BaseException | None = error
    while cause is not None:
        # who answers with another certificate is there, as on a network that asks to sign in
        if isinstance(cause, (ConnectionRefusedError, ssl.SSLError)):
            return True
        cause = cause.__cause__ or cause.__context__
    return False


def _date_of(response: httpx.Response) -> datetime | None:
    try:
        date = parsedate_to_datetime(response.headers.get("Date", ""))
    except ValueError:
        return None
    return date if date.tzinfo is not None else None


def _parse(kind: type[T], response: httpx.Response) -> T:
    return TypeAdapter(kind).validate_json(response.content)
