"""The console's built files, served with a strict content security policy."""

from __future__ import annotations

import base64
import mimetypes
import re
from hashlib import sha256
from pathlib import Path

from fastapi import FastAPI, Request, Response
from fastapi.responses import FileResponse, PlainTextResponse

from phylax.service.problems import not_found

BUILT = Path(__file__).parents[1] / "console"
_ENCODINGS = (("br", ".br"), ("gzip", ".gz"))
_REFUSED = re.compile(r";\s*q=0(\.0*)?\s*$")
_INLINE = re.compile(r"<script(?![^>]*\bsrc=)[^>]*>(.*?)</script>", re.DOTALL)


def policy(page: str) -> str:
    """A content security policy that allows nothing but our own files and this page's scripts."""
    hashes = " ".join(
        f"'sha256-{base64.b64encode(sha256(script.encode()).digest()).decode()}'"
        for script in _INLINE.findall(page)
    )
    # The chart library positions its tooltip by style attributes, which need their own word.
    return (
        f"default-src 'none'; script-src 'self' {hashes}; style-src 'self'; "
        "style-src-attr 'unsafe-inline'; img-src 'self' data:; font-src 'self'; "
        "connect-src 'self'; manifest-src 'self'; base-uri 'none'; form-action 'self'; "
        "frame-ancestors 'none'"
    )


def install(app: FastAPI, built: Path = BUILT) -> None:
    """Serve the console: its files as they are, its one page for every other address."""
    # known beforehand, so that no address ever becomes a path
    files = {
        file.relative_to(built).as_posix(): file for file in built.rglob("*") if file.is_file()
    }
    index = built / "index.html"
    page = index.read_text("utf-8") if index.exists() else ""
    headers = {
        "Content-Security-Policy": policy(page),
        "Cache-Control": "no-cache",
        "X-Content-Type-Options": "nosniff",
        "Referrer-Policy": "same-origin",
    }

    @app.get("/{path:path}", include_in_schema=False)
    def console(path: str, request: Request) -> Response:
        file = files.get(path)
        if path.split("/")[0] in ("api", "_app") and file is None:
            # an address of the API or a built file that is not there is no page of the console
            raise not_found("address", f"/{path}")
        if not page:
            return PlainTextResponse("The console was not built; run 'make console'.", 503)
        if file is not None:
            # built files carry a digest in their name and never change
            lasting = "public, max-age=31536000, immutable"
            cache = lasting if "immutable" in path else "no-cache"
            return _sent(
                file, request, {"Cache-Control": cache, "X-Content-Type-Options": "nosniff"}
            )
        return Response(page, media_type="text/html", headers=headers)


def _sent(file: Path, request: Request, headers: dict[str, str]) -> FileResponse:
    """A built file, in the smallest of the forms it was built in that the browser takes."""
    kind, _ = mimetypes.guess_type(file.name)
    taken = {
        part.partition(";")[0].strip()
        for part in request.headers.get("Accept-Encoding", "").split(",")
        if not _REFUSED.search(part)
    }
    for encoding, end in _ENCODINGS:
        smaller = file.with_name(file.name + end)
        if encoding in taken and smaller.is_file():
            encoded = {"Content-Encoding": encoding, "Vary": "Accept-Encoding"}
            return FileResponse(smaller, media_type=kind, headers=headers | encoded)
    return FileResponse(file, media_type=kind, headers=headers)
