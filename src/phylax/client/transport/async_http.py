"""The same requests, awaited."""

from __future__ import annotations

import asyncio
import uuid
from collections.abc import AsyncIterator
from types import TracebackType
from typing import IO, Any, Self, TypeVar

import httpx
from pydantic import BaseModel

from phylax import __version__
from phylax.client.transport.errors import from_response
from phylax.client.transport.http import (
    PREFIX,
    Wanted,
    check_way,
    checked_secret,
    parse,
    pause_asked,
    trusted,
    unreachable,
    waits,
)

T = TypeVar("T")


class AsyncHttp:
    """A connection to one service with one secret, for one event loop."""

    def __init__(
        self,
        url: str,
        secret: str | None = None,
        *,
        timeout: float = 30.0,
        clear: bool = False,
        certificate: str | None = None,
        retries: int = 0,
    ) -> None:
        check_way(url, clear)
        secret = checked_secret(secret)
        headers = {"User-Agent": f"phylax/{__version__}", "Accept": "application/json"}
        if secret:
            headers["Authorization"] = f"Bearer {secret}"
        self.url = url.rstrip("/")
        self.secret = secret
        self.retries = retries
        self._key: str | None = None
        self._keys_used = 0
        self._client = httpx.AsyncClient(
            base_url=self.url,
            headers=headers,
            timeout=timeout,
            verify=trusted(self.url, certificate),
        )

    async def __aenter__(self) -> Self:
        return self

    async def __aexit__(
        self,
        kind: type[BaseException] | None,
        error: BaseException | None,
        traceback: TracebackType | None,
    ) -> None:
        await self.close()

    async def close(self) -> None:
        """Close the connection."""
        await self._client.aclose()

    async def send(
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
                response = await self._client.send(request)
            except httpx.TransportError as error:
                if wait is None or not wanted.may_repeat(error):
                    raise unreachable(self.url, error) from error
                await asyncio.sleep(wait)
                continue
            if response.is_error:
                pause = pause_asked(response)
                if wait is None or pause is None:
                    raise from_response(response)
                await asyncio.sleep(max(pause, wait))
                continue
            break
        return response

    def _next_key(self) -> str:
        """The key of the next request that makes something: one's own, then numbered."""
        if self._key is None:
            return uuid.uuid4().hex
        self._keys_used += 1
        return self._key if self._keys_used == 1 else f"{self._key}-{self._keys_used}"

    async def download(self, path: str, to: IO[bytes], *, timeout: float | None = None) -> int:
        """Write what comes into a file; how many bytes. Half of it is UnreachableError."""
        try:
            async with self._client.stream("GET", PREFIX + path, timeout=timeout) as response:
                if response.is_error:
                    await response.aread()
                    raise from_response(response)
                return sum([to.write(piece) async for piece in response.aiter_bytes()])
        except httpx.TransportError as error:
            raise unreachable(self.url, error) from error

    async def get(self, kind: type[T], path: str, /, **params: Any) -> T:
        """What a path answers, as a kind."""
        return parse(kind, await self.send("GET", path, params=params))

    async def post(
        self, kind: type[T], path: str, body: BaseModel | None = None, version: int | None = None
    ) -> T:
        """Make something, or do something; what it answers, as a kind."""
        headers = {} if version is None else {"If-Match": f'"{version}"'}
        return parse(kind, await self.send("POST", path, body=body, headers=headers))

    async def upload(self, kind: type[T], path: str, content: bytes, **params: Any) -> T:
        """Bytes as they are."""
        return parse(kind, await self.send("POST", path, content=content, params=params))

    async def put(self, kind: type[T], path: str, body: BaseModel, version: int | None) -> T:
        """Replace what has a version; the version is the one that was read and edited."""
        headers = {} if version is None else {"If-Match": f'"{version}"'}
        return parse(kind, await self.send("PUT", path, body=body, headers=headers))

    async def delete(self, path: str, version: int | None = None) -> None:
        """Take away what a path names."""
        headers = {} if version is None else {"If-Match": f'"{version}"'}
        await self.send("DELETE", path, headers=headers)

    async def first(self, kind: type[T], path: str, most: int, /, **params: Any) -> list[T]:
        """The first elements of a paged listing, at most so many."""
        elements: list[T] = []
        async for element in self.pages(kind, path, **params):
            if len(elements) == most:
                break
            elements.append(element)
        return elements

    async def pages(self, kind: type[T], path: str, /, **params: Any) -> AsyncIterator[T]:
        """Every element of a paged listing; pages are fetched as they are needed."""
        response = await self.send("GET", path, params=params)
        while True:
            for element in parse(list[kind], response):  # type: ignore[valid-type]
                yield element
            following = response.links.get("next")
            if following is None:
                return
            response = await self.send("GET", following["url"])
