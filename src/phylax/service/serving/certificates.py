"""A certificate of the shop's own, for a service that others reach without a proxy before it."""

from __future__ import annotations

import os
from datetime import UTC, datetime, timedelta
from ipaddress import ip_address
from pathlib import Path
from typing import NamedTuple

from cryptography import x509
from cryptography.hazmat.primitives import hashes, serialization
from cryptography.hazmat.primitives.asymmetric import ec
from cryptography.x509.oid import NameOID

_DAYS = 5 * 365


class Made(NamedTuple):
    """Where a certificate and its key are, and how others recognise it."""

    certificate: Path
    key: Path
    fingerprint: str
    until: datetime


def make_certificate(folder: Path, names: tuple[str, ...]) -> Made:
    """Make a key and a certificate for the names and addresses under which the service is reached.

    FileExistsError where there is one: machines trust that one alone.
    """
    certificate, key_path = folder / "service.pem", folder / "service-key.pem"
    folder.mkdir(parents=True, exist_ok=True, mode=0o700)
    if certificate.exists():
        raise FileExistsError(
            f"{certificate} is there already, and enrolled machines trust it alone"
        )
    key = ec.generate_private_key(ec.SECP256R1())
    subject = x509.Name([x509.NameAttribute(NameOID.COMMON_NAME, names[0][:64])])
    now = datetime.now(UTC)
    until = now + timedelta(days=_DAYS)
    made = (
        x509.CertificateBuilder()
        .subject_name(subject)
        .issuer_name(subject)
        .public_key(key.public_key())
        .serial_number(x509.random_serial_number())
        # a client's clock may be behind
        .not_valid_before(now - timedelta(days=2))
        .not_valid_after(until)
        .add_extension(x509.SubjectAlternativeName([_name(name) for name in names]), critical=False)
        .add_extension(x509.BasicConstraints(ca=True, path_length=0), critical=True)
        .sign(key, hashes.SHA256())
    )
    pem = key.private_bytes(
        serialization.Encoding.PEM, serialization.PrivateFormat.PKCS8, serialization.NoEncryption()
    )
    handle = os.open(key_path, os.O_CREAT | os.O_WRONLY | os.O_TRUNC, 0o600)
    with open(handle, "wb") as file:
        file.write(pem)
    certificate.write_bytes(made.public_bytes(serialization.Encoding.PEM))
    return Made(certificate, key_path, made.fingerprint(hashes.SHA256()).hex(), until)


def _name(name: str) -> x509.GeneralName:
    try:
        return x509.IPAddress(ip_address(name))
    except ValueError:
        return x509.DNSName(name)
