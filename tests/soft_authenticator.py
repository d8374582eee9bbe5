"""A device of WebAuthn in a few lines, honest or not, for what a browser would not do."""

from __future__ import annotations

import json
import secrets
from base64 import urlsafe_b64encode
from dataclasses import dataclass, field
from hashlib import sha256

import cbor2
from cryptography.hazmat.primitives.asymmetric import ec
from cryptography.hazmat.primitives.hashes import SHA256

PRESENT, VERIFIED, HAS_KEY = 0x01, 0x04, 0x40


def text(data: bytes) -> str:
    return urlsafe_b64encode(data).rstrip(b"=").decode()


@dataclass
class Device:
    """A key for one host; `flags`, `count` and `origin` are what it says."""

    origin: str
    flags: int = PRESENT | VERIFIED
    count: int = 1
    credential: bytes = field(default_factory=lambda: secrets.token_bytes(32))
    key: ec.EllipticCurvePrivateKey = field(
        default_factory=lambda: ec.generate_private_key(ec.SECP256R1())
    )

    cose: dict[int, object] = field(default_factory=dict)
    """What it says its public key is; empty: what it is."""

    def makes(self, options: str) -> str:
        """A credential, as a browser sends it."""
        asked = json.loads(options)
        point = self.key.public_key().public_numbers()
        cose = self.cose or {
            1: 2,
            3: -7,
            -1: 1,
            -2: point.x.to_bytes(32, "big"),
            -3: point.y.to_bytes(32, "big"),
        }
        data = self._data(asked["rp"]["id"], HAS_KEY) + bytes(16)
        data += len(self.credential).to_bytes(2, "big") + self.credential + cbor2.dumps(cose)
        client = self._client("webauthn.create", asked["challenge"])
        attestation = cbor2.dumps({"fmt": "none", "attStmt": {}, "authData": data})
        return self._said({"clientDataJSON": text(client), "attestationObject": text(attestation)})

    def signs(self, options: str) -> str:
        """An assertion, as a browser sends it."""
        asked = json.loads(options)
        client = self._client("webauthn.get", asked["challenge"])
        data = self._data(asked["rpId"], 0)
        signature = self.key.sign(data + sha256(client).digest(), ec.ECDSA(SHA256()))
        return self._said(
            {
                "clientDataJSON": text(client),
                "authenticatorData": text(data),
                "signature": text(signature),
            }
        )

    def _data(self, host: str, more: int) -> bytes:
        flags = (self.flags | more).to_bytes(1, "big")
        return sha256(host.encode()).digest() + flags + self.count.to_bytes(4, "big")

    def _client(self, kind: str, challenge: str) -> bytes:
        return json.dumps({"type": kind, "challenge": challenge, "origin": self.origin}).encode()

    def _said(self, response: dict[str, str]) -> str:
        name = text(self.credential)
        return json.dumps(
            {
                "id": name,
                "rawId": name,
                "type": "public-key",
                "response": response,
                "clientExtensionResults": {},
            }
        )
