"""The requests themselves: addresses, authorization, problems, pages."""

from __future__ import annotations

import random
import ssl
import time
import uuid
from collections.abc import Callable, Iterator
from dataclasses import dataclass
from datetime import datetime
from email.utils import parsedate_to_datetime
from itertools import islice
from types import TracebackType
from typing import IO, Any, Self, TypeVar

import httpx
from pydantic import BaseModel, TypeAdapter

from phylax import __version__
from phylax.client.transport.errors import ClearHttpError, UnreachableError, from_response
from phylax.client.transport.repeatable import is_repeatable
from phylax.core.ground.addresses import is_loopback

T = TypeVar("T")
PREFIX = "/api/v2"


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


@dataclass(frozen=True)
class Wanted:
    """A request as it is to be sent."""

    parts: dict[str, Any]

    @classmethod
    def of(
        cls,
        method: str,
        path: str,
        *,
        body: BaseModel | None,
        content: bytes | None,
        params: dict[str, Any] | None,
        headers: dict[str, str] | None,
        timeout: float | None,
        key: str,
    ) -> Wanted:
        headers = dict(headers or {})
        if content is not None:
            headers["Content-Type"] = "application/octet-stream"
        if body is not None:
            content = body.model_dump_json(exclude_none=True).encode()
            headers["Content-Type"] = "application/json"
        if method == "POST":
            # if the answer is lost, the same request may be sent again without being done twice
            headers.setdefault("Idempotency-Key", key)
        return cls({
            "method": method,
            "url": path if path.startswith(PREFIX) else PREFIX + path,
            "content": content,
            # None, not an empty dict: that would strip the query of a next page's address
            "params": {k: v for k, v in (params or {}).items() if v is not None} or None,
            "headers": headers,
            "timeout": timeout if timeout is not None else httpx.USE_CLIENT_DEFAULT,
        })  # fmt: skip

    def may_repeat(self, error: httpx.TransportError) -> bool:
        """Whether sending it again after a failure on the way does nothing twice."""
        if isinstance(error, (httpx.UnsupportedProtocol, httpx.LocalProtocolError)):
            return False
        if isinstance(error, (httpx.ConnectError, httpx.ConnectTimeout, httpx.PoolTimeout)):
            return True
        return is_repeatable(self.parts["method"], self.parts["url"])


_FIRST_WAIT = 0.2
_LONGEST_WAIT = 10.0


def waits(retries: int) -> list[float]:
    """Seconds before each further try: twice as long each time, and never the same for all."""
    return [
        min(_LONGEST_WAIT, _FIRST_WAIT * 2**n) * (0.5 + random.random()) for n in range(retries)
    ]


def pause_asked(response: httpx.Response) -> float | None:
    """How long the service wants to be left alone before the same again (RFC 9110, Retry-After);
    None where the same again would be answered the same."""
    after = response.headers.get("Retry-After", "")
    if response.status_code not in (429, 503) or not after:
        return None
    seconds = float(after) if after.isdecimal() else _LONGEST_WAIT
    return seconds if seconds <= _LONGEST_WAIT else None


def unreachable(url: str, error: httpx.TransportError) -> UnreachableError:
    return UnreachableError(f"{url} could not be reached: {error}", answered=_was_answered(error))


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
        retries: int = 0,
    ) -> None:
        """`retries` is how often a request is sent again where that is safe, at most: reads, what
        is carried out once by its `Idempotency-Key`, what certainly did not arrive, and what was
        answered with *too many* or *busy*. `told_time` is called with the service's time whenever
        it answers (`Date`, RFC 9110).

        `clear` allows http to another host than this one: ClearHttpError without. `certificate` is
        a file with the shop's own certificate (PEM), the only one that is trusted then.
        """
        check_way(url, clear)
        secret = checked_secret(secret)
        self._told_time = told_time
        headers = {"User-Agent": f"phylax/{__version__}", "Accept": "application/json"}
        if secret:
            headers["Authorization"] = f"Bearer {secret}"
        self.url = url.rstrip("/")
        self.secret = secret
        self.retries = retries
        self._key: str | None = None
        self._keys_used = 0
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
        """Close the connection."""
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
        """Send a request, again where that is safe; UnreachableError or a RefusedError where it
        fails."""
        wanted = Wanted.of(
            method, path, body=body, content=content, params=params, headers=headers,
            timeout=timeout, key=self._next_key() if method == "POST" else "",
        )  # fmt: skip
        for wait in (*waits(self.retries), None):
            request = self._client.build_request(**wanted.parts)
            try:
                response = self._client.send(request)
            except httpx.TransportError as error:
                if wait is None or not wanted.may_repeat(error):
                    raise unreachable(self.url, error) from error
                time.sleep(wait)
                continue
            if response.is_error:
                pause = pause_asked(response)
                if wait is None or pause is None:
                    raise from_response(response)
                time.sleep(max(pause, wait))
                continue
            break
        self._answered(response)
        return response

    def _next_key(self) -> str:
        """The key of the next request that makes something: one's own, then numbered."""
        if self._key is None:
            return uuid.uuid4().hex
        self._keys_used += 1
        return self._key if self._keys_used == 1 else f"{self._key}-{self._keys_used}"

    def _answered(self, response: httpx.Response) -> None:
        """The service answered, and not with an error."""
        if self._told_time is not None and (date := date_of(response)) is not None:
            self._told_time(date)

    def download(self, path: str, to: IO[bytes], *, timeout: float | None = None) -> int:
        """Write what comes into a file; how many bytes. Half of it is UnreachableError."""
        address = PREFIX + path
        try:
            with self._client.stream("GET", address, timeout=timeout) as response:
                if response.is_error:
                    response.read()
                    raise from_response(response)
                return sum(to.write(piece) for piece in response.iter_bytes())
        except httpx.TransportError as error:
            raise unreachable(self.url, error) from error

    def get(self, kind: type[T], path: str, /, **params: Any) -> T:
        """What a path answers, as a kind."""
        return parse(kind, self.send("GET", path, params=params))

    def post(
        self, kind: type[T], path: str, body: BaseModel | None = None, version: int | None = None
    ) -> T:
        """Make something, or do something; what it answers, as a kind."""
        headers = {} if version is None else {"If-Match": f'"{version}"'}
        return parse(kind, self.send("POST", path, body=body, headers=headers))

    def upload(self, kind: type[T], path: str, content: bytes, **params: Any) -> T:
        """Bytes as they are."""
        return parse(kind, self.send("POST", path, content=content, params=params))

    def put(self, kind: type[T], path: str, body: BaseModel, version: int | None) -> T:
        """Replace what has a version; the version is the one that was read and edited."""
        headers = {} if version is None else {"If-Match": f'"{version}"'}
        return parse(kind, self.send("PUT", path, body=body, headers=headers))

    def delete(self, path: str, version: int | None = None) -> None:
        """Take away what a path names."""
        headers = {} if version is None else {"If-Match": f'"{version}"'}
        self.send("DELETE", path, headers=headers)

    def first(self, kind: type[T], path: str, most: int, /, **params: Any) -> list[T]:
        """The first elements of a paged listing, at most so many."""
        return list(islice(self.pages(kind, path, **params), most))

    def pages(self, kind: type[T], path: str, /, **params: Any) -> Iterator[T]:
        """Every element of a paged listing; pages are fetched as they are needed."""
        response = self.send("GET", path, params=params)
        while True:
            yield from parse(list[kind], response)  # type: ignore[valid-type]
            following = response.links.get("next")
            if following is None:
                return
            response = self.send("GET", following["url"])


def checked_secret(secret: str | None) -> str | None:
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


def date_of(response: httpx.Response) -> datetime | None:
    try:
        date = parsedate_to_datetime(response.headers.get("Date", ""))
    except ValueError:
        return None
    return date if date.tzinfo is not None else None


def parse(kind: type[T], response: httpx.Response) -> T:
    return TypeAdapter(kind).validate_json(response.content)
