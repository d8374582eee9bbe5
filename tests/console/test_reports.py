"""A report for the client: chosen, made, printed and sent in the browser."""

from __future__ import annotations

from pathlib import Path

from playwright.sync_api import Page, expect

from mail_box import running_box
from phylax.client import Phylax
from phylax.core.attention.notices import MailServerEdit
from phylax.core.clients.shop import ClientEdit, Machine
from phylax.core.ground.values import edit_of
from phylax.core.desk.visits import NewVisit
from phylax.service.context.context import Context

MARK = b'<svg xmlns="http://www.w3.org/2000/svg" width="20" height="20"><rect width="9"/></svg>'


def test_a_report_of_a_visit_is_made_and_sent(
    page: Page, owner: Phylax, machine: Machine, context: Context
) -> None:
    client = owner.clients.get(machine.client_id)
    owner.clients.change(client, edit_of(ClientEdit, client, mail="aoife@ferry.example"))
    visit = owner.visits.open(NewVisit(machine_id=machine.id, reported_problem="It <b>howls</b>"))
    owner.records.add_note(machine.tag, "Dust in the fan.")
    page.goto(f"/visits/{visit.id}")
    page.get_by_role("link", name="Make a report").click()
    report = page.get_by_test_id("report")
    expect(report).to_contain_text("“It <b>howls</b>”")
    expect(report).not_to_contain_text("Dust")
    page.get_by_label("Covering sentence (optional)").fill("It was the fan.")
    page.get_by_label("Dust in the fan.").check()
    page.get_by_label("what comes next").uncheck()
    page.get_by_label("Language").select_option("German")
    expect(report).to_contain_text("Was Sie uns gesagt haben")
    expect(report).to_contain_text("It was the fan.")
    expect(report).to_contain_text("Dust in the fan.")
    page.get_by_role("button", name="Make the report").click()
    expect(page.get_by_role("heading", level=1)).to_have_text("Report 1")
    expect(page.get_by_test_id("report")).to_contain_text("„It <b>howls</b>“")
    pdf = page.request.get(f"/api/v2/reports/{1}/pdf")
    assert pdf.body() == owner.reports.pdf(1)
    # printed, it is the paper alone
    page.emulate_media(media="print")
    expect(page.get_by_role("button", name="Print")).to_be_hidden()
    expect(page.get_by_test_id("report")).to_be_visible()
    page.emulate_media(media="screen")

    expect(page.get_by_label("Send it to")).to_have_value("aoife@ferry.example")
    page.get_by_role("button", name="Send it").click()
    expect(page.get_by_text("No mail server is set")).to_be_visible()
    with running_box() as (_, server):
        owner.notices.set_mail_server(
            MailServerEdit(
                host="127.0.0.1", port=server.port, security="none", sender="desk@quayside.example"
            ),
            None,
        )
        page.get_by_role("button", name="Send it").click()
        expect(page.get_by_text("It goes to aoife@ferry.example.")).to_be_visible()
    expect(page.get_by_role("button", name="Send it again")).to_be_visible()
    page.goto(f"/clients/{machine.client_id}")
    expect(page.get_by_test_id("reports")).to_contain_text("sent to aoife@ferry.example")


def test_the_letterhead_and_its_mark(page: Page, owner: Phylax, tmp_path: Path) -> None:
    page.goto("/shop/letterhead")
    page.get_by_label("Head: the shop's name first").fill("Quayside\nNorth Quay 4")
    page.get_by_label("Terms").fill("Fetch it within three months.")
    page.get_by_role("button", name="Save").click()
    expect(page.get_by_text("Saved.")).to_be_visible()
    (tmp_path / "bad.svg").write_bytes(MARK.replace(b"<rect", b"<script/><rect"))
    (tmp_path / "mark.svg").write_bytes(MARK)
    page.get_by_label("Upload one").set_input_files(tmp_path / "bad.svg")
    expect(page.get_by_text("There is <script> in it")).to_be_visible()
    page.get_by_label("Upload one").set_input_files(tmp_path / "mark.svg")
    expect(page.get_by_alt_text("The mark")).to_be_visible()
    page.get_by_role("button", name="Take it away").click()
    expect(page.get_by_alt_text("The mark")).to_be_hidden()
    letterhead = owner.reports.letterhead()
    assert (letterhead.head, letterhead.mark) == ("Quayside\nNorth Quay 4", "")
