"""The shop's own certificate, kept when a machine is enrolled: from then on no other is trusted."""

from __future__ import annotations

import hmac
import ssl
from hashlib import sha256
from pathlib import Path
from urllib.parse import urlsplit

FILE = "service.pem"
_SECONDS = 20


def keep_certificate(folder: Path, url: str, fingerprint: str) -> str:
    """Fetch a service's certificate, and keep it where its SHA-256 is the one that was told.

    The file's path. ValueError where it is another, or the address is not of https; OSError where
    it cannot be fetched.
    """
    address = urlsplit(url)
    if address.scheme != "https" or not address.hostname:
        raise ValueError(f"{url}: only an https address has a certificate")
    pem = ssl.get_server_certificate((address.hostname, address.port or 443), timeout=_SECONDS)
    shown = sha256(ssl.PEM_cert_to_DER_cert(pem)).hexdigest()
    wanted = "".join(sign for sign in fingerprint.lower() if sign in "0123456789abcdef")
    if not hmac.compare_digest(shown, wanted):
        raise ValueError(
            f"the certificate at {url} has the fingerprint {shown}, not the one that was told: "
            "somebody may stand between"
        )
    folder.mkdir(parents=True, exist_ok=True, mode=0o700)
    path = folder / FILE
    path.write_text(pem, "ascii")
    return str(path.resolve())
