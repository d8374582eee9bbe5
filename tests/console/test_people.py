"""People, oneself and backups in the browser."""

from __future__ import annotations

import re

import pyotp
from playwright.sync_api import Browser, Page, expect

from conftest import Service
from helpers import PASSWORD
from phylax.client import Phylax

CHOSEN = "gorse under a slow kettle"


def test_a_person_is_added_chooses_a_password_and_leaves(
    page: Page, service: Service, owner: Phylax
) -> None:
    page.goto("/shop/people")
    page.get_by_label("Name", exact=True).fill("Tobias Quill")
    page.get_by_label("Login").fill("tobias")
    page.get_by_role("button", name="Add, and make a link").click()
    shown = page.get_by_role("status").locator("code")
    expect(shown).to_have_text(re.compile(r"/welcome#welcome_\S+"))
    link = shown.inner_text()
    assert page.context.browser
    with page.context.browser.new_context(base_url=service.url) as other:
        theirs = other.new_page()
        theirs.goto(link)
        theirs.get_by_label("Password", exact=True).fill("password12")
        theirs.get_by_label("The same again").fill("password12")
        theirs.get_by_role("button", name="Take it").click()
        expect(theirs.get_by_role("alert")).to_be_visible()
        theirs.get_by_label("Password", exact=True).fill(CHOSEN)
        theirs.get_by_label("The same again").fill(CHOSEN)
        theirs.get_by_role("button", name="Take it").click()
        expect(theirs.get_by_text("Tobias Quill").first).to_be_visible()
        row = page.get_by_test_id("people").get_by_role("listitem").filter(has_text="Tobias")
        row.get_by_label("Role of Tobias Quill").select_option("desk")
        row.get_by_role("button", name="Leaves", exact=True).click()
        page.get_by_role("button", name="Tobias Quill leaves").click()
        expect(row).to_contain_text("left")
        theirs.reload()
        expect(theirs).to_have_url(re.compile("/sign-in"))
    assert [p.role for p in owner.people.list() if p.login == "tobias"] == ["desk"]


def test_codes_are_set_up_and_asked_for(page: Page, service: Service, owner: Phylax) -> None:
    page.goto("/shop/you")
    expect(page.get_by_test_id("sign-ins")).to_contain_text("this browser")
    page.get_by_role("button", name="Set up codes").click()
    codes = pyotp.parse_uri(page.get_by_text("otpauth://").inner_text())
    assert isinstance(codes, pyotp.TOTP)
    page.get_by_label("The code that it shows").fill(codes.at(service.context.now()))
    page.get_by_role("button", name="Use codes from now on").click()
    expect(page.get_by_text("your password and a code from an app")).to_be_visible()
    assert page.context.browser
    with page.context.browser.new_context(base_url=service.url) as other:
        theirs = other.new_page()
        theirs.goto("/sign-in")
        theirs.get_by_label("Login").fill("ines")
        theirs.get_by_label("Password").fill(PASSWORD)
        theirs.get_by_role("button", name="Sign in").click()
        # the next one: a code counts once
        theirs.get_by_label("Code of your app").fill(codes.at(service.context.now() + 30))
        theirs.get_by_role("button", name="Sign in").click()
        expect(theirs.get_by_text("Ines Marrow").first).to_be_visible()


def test_a_backup_is_made_and_its_place_is_refused_where_it_is_none(page: Page) -> None:
    page.goto("/shop")
    page.get_by_role("button", name="Make a backup now").click()
    expect(page.get_by_text("Made and checked")).to_be_visible()
    expect(page.get_by_test_id("backups").get_by_role("listitem")).to_have_count(1)
    page.get_by_role("button", name="Choose the place").click()
    page.get_by_label("Folder on the service").fill("/nowhere/at/all")
    page.get_by_role("button", name="Keep them there").click()
    expect(page.get_by_text("There is no folder /nowhere/at/all")).to_be_visible()


def test_a_passkey_is_made_and_signed_in_by(page: Page, service: Service, browser: Browser) -> None:
    """With Chromium's own authenticator, as on a device that knows its user."""
    here = service.url.replace("127.0.0.1", "localhost")
    page.goto("/shop/you")
    expect(page.get_by_text("open the console at http://localhost")).to_be_visible()
    with browser.new_context(base_url=here) as context:
        mine = context.new_page()
        devices = context.new_cdp_session(mine)
        devices.send("WebAuthn.enable")
        device = devices.send(
            "WebAuthn.addVirtualAuthenticator",
            {"options": {"protocol": "ctap2", "transport": "internal", "hasResidentKey": True,
                         "hasUserVerification": True, "isUserVerified": True,
                         "automaticPresenceSimulation": True}},
        )  # fmt: skip
        mine.goto("/sign-in")
        mine.get_by_label("Login").fill("wren")
        mine.get_by_label("Password").fill(PASSWORD)
        mine.get_by_role("button", name="Sign in", exact=True).click()
        expect(mine).to_have_url(f"{here}/")
        mine.goto("/shop/you")
        mine.get_by_label("What the device is called").fill("Laptop")
        mine.get_by_role("button", name="Add a passkey").click()
        expect(mine.get_by_test_id("passkeys")).to_contain_text("Laptop")
        mine.get_by_label("What the device is called").fill("Laptop again")
        mine.get_by_role("button", name="Add a passkey").click()
        expect(mine.get_by_role("alert")).to_contain_text("has a passkey of yours already")
        mine.get_by_role("button", name="Sign out", exact=True).first.click()
        expect(mine).to_have_url(re.compile("/sign-in"))
        mine.get_by_role("button", name="Sign in with a passkey").click()
        expect(mine).to_have_url(f"{here}/")
        mine.goto("/shop/you")
        expect(mine.get_by_test_id("passkeys")).to_contain_text("last used")
        devices.send(
            "WebAuthn.setUserVerified",
            {"authenticatorId": device["authenticatorId"], "isUserVerified": False},
        )
        mine.goto("/sign-in")
        mine.get_by_role("button", name="Sign in with a passkey").click()
        expect(mine.get_by_role("alert")).to_contain_text("did not agree")
