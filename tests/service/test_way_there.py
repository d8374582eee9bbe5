"""The way from agents and command lines to the service: never in clear without being told, and by a
certificate of the shop's own."""

from __future__ import annotations

from collections.abc import Iterator
from pathlib import Path

import pytest

from conftest import Service, serving
from helpers import PASSWORD, free_port, make_standin
from phylax.agent.config.certificate import keep_certificate
from phylax.agent.config.home import AgentHome
from phylax.agent.runtime import commands
from phylax.agent.runtime.loop import Agent
from phylax.client import AgentLink, ClearHttpError, Phylax, UnreachableError, enrol, sign_in
from phylax.core.clients.shop import ClientEdit, Machine, MachineEdit
from phylax.core.ground.machines import MachineFacts
from phylax.service.context.context import Context
from phylax.service.serving.certificates import Made, make_certificate
from phylax.service.serving.serve import server_config

FACTS = MachineFacts(host="h", system="linux", agent_version="1", kind="standin")


@pytest.mark.parametrize("url", ["http://shop.example", "http://192.168.1.9:8610", "HTTP://x.test"])
def test_nothing_secret_goes_in_clear_to_another_host(url: str) -> None:
    for attempt in (
        lambda: sign_in(url, "ines", PASSWORD),
        lambda: enrol(url, "code", FACTS),
        lambda: Phylax(url, "token"),
        lambda: AgentLink(url, "key"),
    ):
        with pytest.raises(ClearHttpError, match="everybody on the way"):
            attempt()
    Phylax(url, "token", clear=True).close()
    for here in ("http://127.0.0.1:8610", "http://localhost", "http://[::1]:8610"):
        Phylax(here, "token").close()


@pytest.fixture(scope="module")
def made(tmp_path_factory: pytest.TempPathFactory) -> Made:
    return make_certificate(tmp_path_factory.mktemp("tls"), ("localhost", "127.0.0.1"))


@pytest.fixture
def secure(context: Context, made: Made) -> Iterator[Service]:
    files = (made.certificate, made.key)
    config = server_config(context, "127.0.0.1", free_port(), tls=files)
    with serving(context, config, "localhost") as running:
        yield running


def test_a_machine_that_was_enrolled_with_the_fingerprint_trusts_no_other(
    secure: Service, made: Made, tmp_path: Path
) -> None:
    with pytest.raises(UnreachableError):
        sign_in(secure.url, "ines", PASSWORD)
    certificate = str(made.certificate)
    token = sign_in(secure.url, "ines", PASSWORD, certificate=certificate)
    home, pretended = AgentHome(tmp_path / "agent"), tmp_path / "machine"
    with Phylax(secure.url, token, certificate=certificate) as shop:
        machine = added(shop)
        code = shop.machines.enrolment_code(machine.id).code
        make_standin(pretended)
        with pytest.raises(ValueError, match="somebody may stand between"):
            commands.enrol(home, secure.url, code, pretended, fingerprint="00" * 32)
        spoken = ":".join(made.fingerprint[n : n + 2] for n in range(0, 64, 2)).upper()
        commands.enrol(home, secure.url, code, pretended, fingerprint=spoken)
        Agent(home).once()
        assert shop.machines.get(machine.id).agent_version
    other = make_certificate(tmp_path / "other", ("localhost",))
    Path(home.config().certificate or "").write_bytes(other.certificate.read_bytes())
    with pytest.raises(UnreachableError):
        Agent(home).once()


def added(shop: Phylax) -> Machine:
    client = shop.clients.add(ClientEdit(name="Ferry"))
    return shop.machines.add(MachineEdit(tag="desk", client_id=client.id, system="linux"))


def test_a_certificate_is_not_replaced_by_the_way_and_its_key_is_for_one_user(
    made: Made, tmp_path: Path
) -> None:
    assert made.key.stat().st_mode & 0o077 == 0
    with pytest.raises(FileExistsError, match="trust it alone"):
        make_certificate(made.certificate.parent, ("localhost",))
    with pytest.raises(ValueError, match="only an https address"):
        keep_certificate(tmp_path, "http://localhost", made.fingerprint)
