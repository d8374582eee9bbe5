"""Signing in by a passkey (WebAuthn): the device asks its user, and signs what we ask.

A passkey is bound to the host by which the console was opened when it was made: a page elsewhere
gets no signature that counts here. It is what somebody has, and what they know or are, at once.
"""

from __future__ import annotations

import json
from hashlib import sha256
from typing import NamedTuple

from fastapi import Request
from webauthn import (
    base64url_to_bytes,
    generate_authentication_options,
    generate_registration_options,
    options_to_json,
    verify_authentication_response,
    verify_registration_response,
)
from webauthn.helpers.structs import (
    AuthenticatorSelectionCriteria,
    PublicKeyCredentialDescriptor,
    ResidentKeyRequirement,
    UserVerificationRequirement,
)

from phylax.core.people.accounts import Person
from phylax.service.limits.challenges import LASTS, Challenges
from phylax.service.problems import Problem
from phylax.store.people.passkeys import KeptPasskey

_LARGEST_KEY = 600
"""Bytes; of RSA with 4096 bits. A larger one takes seconds to check, for anybody who asks."""


class MadePasskey(NamedTuple):
    credential: bytes
    public_key: bytes
    sign_count: int
    host: str


def host_of(request: Request) -> str:
    """The name by which the console was opened; a problem where browsers have no passkeys."""
    host = request.url.hostname or ""
    if host != "localhost" and (":" in host or host.replace(".", "").isdigit() or not host):
        raise Problem(
            409, "no-passkeys-here", "Browsers have passkeys for names only, not for addresses: "
            "open the console by its name, or as localhost."
        )  # fmt: skip
    return host


def options_to_make(
    challenges: Challenges, person: Person, shop: str, known: list[bytes], host: str, *, now: int
) -> str:
    """PublicKeyCredentialCreationOptions as JSON."""
    return options_to_json(
        generate_registration_options(
            rp_id=host,
            rp_name=shop,
            user_id=sha256(f"{shop}\n{person.id}".encode()).digest(),
            user_name=person.login,
            user_display_name=person.name,
            challenge=challenges.new(f"make {person.id}", now=now),
            timeout=LASTS * 1000,
            authenticator_selection=AuthenticatorSelectionCriteria(
                resident_key=ResidentKeyRequirement.REQUIRED,
                user_verification=UserVerificationRequirement.REQUIRED,
            ),
            exclude_credentials=[PublicKeyCredentialDescriptor(id=c) for c in known],
        )
    )


def options_to_sign_in(challenges: Challenges, host: str, *, now: int) -> str:
    """PublicKeyCredentialRequestOptions as JSON."""
    return options_to_json(
        generate_authentication_options(
            rp_id=host,
            challenge=challenges.new("sign in", now=now),
            timeout=LASTS * 1000,
            user_verification=UserVerificationRequirement.REQUIRED,
        )
    )


class WrongPasskeyError(Exception):
    """What a device said does not count."""


def made(
    challenges: Challenges, person: Person, said: str, request: Request, *, now: int
) -> MadePasskey:
    """A passkey that a device made. WrongPasskeyError."""
    host = host_of(request)
    challenge = _challenge(challenges, f"make {person.id}", said, now)
    try:
        checked = verify_registration_response(
            credential=said,
            expected_challenge=challenge,
            expected_rp_id=host,
            expected_origin=_origins(request, host),
            require_user_verification=True,
        )
    except Exception as error:
        raise WrongPasskeyError from error
    if len(checked.credential_public_key) > _LARGEST_KEY:
        raise WrongPasskeyError
    return MadePasskey(
        checked.credential_id, checked.credential_public_key, checked.sign_count, host
    )


def credential_of(said: str) -> bytes:
    """By what a device names its key. WrongPasskeyError."""
    try:
        return base64url_to_bytes(json.loads(said)["rawId"])
    except (ValueError, KeyError, TypeError, AttributeError, RecursionError) as error:
        raise WrongPasskeyError from error


def signed(
    challenges: Challenges, kept: KeptPasskey, said: str, request: Request, *, now: int
) -> int:
    """A device's signature was checked; its new count. WrongPasskeyError."""
    host = host_of(request)
    challenge = _challenge(challenges, "sign in", said, now)
    if kept.host != host:
        raise WrongPasskeyError
    try:
        checked = verify_authentication_response(
            credential=said,
            expected_challenge=challenge,
            expected_rp_id=host,
            expected_origin=_origins(request, host),
            credential_public_key=kept.public_key,
            credential_current_sign_count=kept.sign_count,
            require_user_verification=True,
        )
    except Exception as error:
        raise WrongPasskeyError from error
    return checked.new_sign_count


def _challenge(challenges: Challenges, purpose: str, said: str, now: int) -> bytes:
    """The challenge that a device signed, if it is one of ours."""
    try:
        client_data = base64url_to_bytes(json.loads(said)["response"]["clientDataJSON"])
        challenge = base64url_to_bytes(json.loads(client_data)["challenge"])
    except (ValueError, KeyError, TypeError, AttributeError, RecursionError) as error:
        raise WrongPasskeyError from error
    if not challenges.use(purpose, challenge, now=now):
        raise WrongPasskeyError
    return challenge


def _origins(request: Request, host: str) -> list[str]:
    """Where the console's pages come from. Behind a proxy we are asked in clear; the browser
    itself says https, and has passkeys nowhere else but on its own machine."""
    at = request.headers.get("host", host)
    return [f"https://{at}"] + ([f"http://{at}"] if host == "localhost" else [])
