"""Every state of the screens that can be opened on them: no barrier in any size, by day and by night."""

from collections.abc import Callable

import pytest
from playwright.sync_api import Page, expect

from browsing import LANE, drawn, no_barrier, until

pytestmark = pytest.mark.browser
SPACE = "/s/salt-ferry/space"


def stage_menu(page: Page) -> None:
    for key in ("t", "ArrowDown", "Enter"):
        page.keyboard.press(key)
    expect(page.get_by_role("menu", name="Put a stage in")).to_be_visible()


def stretch_menu(page: Page) -> None:
    page.keyboard.press("n")
    expect(page.get_by_role("menu")).to_be_visible()


def typing(page: Page) -> None:
    page.get_by_role("slider", name="Frequency").first.press("Enter")
    expect(page.locator(".rule-box input")).to_be_visible()


def refused(page: Page) -> None:
    typing(page)
    page.keyboard.type("999999")
    page.keyboard.press("Enter")
    expect(page.locator(".toast")).to_contain_text("Hz")


def phrase_menu(page: Page) -> None:
    page.locator(".strip .phrase").first.press("F2")
    expect(page.locator(".phrase-menu")).to_be_visible()


def keys(page: Page) -> None:
    page.keyboard.press("?")
    expect(page.locator("#keys")).to_be_visible()


def eyes_off(page: Page) -> None:
    page.keyboard.press("e")
    until(page, "document.documentElement.dataset.eyes === 'off'")


def chosen(page: Page) -> None:
    expect(page.locator("#events button").first).to_be_attached()
    page.locator("[data-which=worst]").click()
    expect(page.locator("#chosen-say")).not_to_be_empty()


def dynamic(page: Page) -> None:
    page.locator("[data-make-dynamic]").first.click()
    page.wait_for_timeout(300)
    drawn(page)


def thrown(page: Page) -> None:
    page.get_by_role("button", name="Throw over this loop").first.click()
    expect(page.locator(".strip .throw")).to_have_count(1)


def printed(page: Page) -> None:
    page.locator("#print-start").click()
    expect(page.locator("[data-print][data-state=done]").first).to_be_visible(timeout=120_000)


@pytest.mark.parametrize(
    ("address", "state"),
    [
        (f"{LANE}?stage=clean", stage_menu),
        (f"{LANE}?stage=clean", stretch_menu),
        (f"{LANE}?stage=clean", typing),
        (f"{LANE}?stage=clean", refused),
        (f"{LANE}?stage=clean&band=2", dynamic),
        (f"{LANE}?stage=deess", chosen),
        (LANE, phrase_menu),
        (LANE, keys),
        (f"{LANE}?stage=level", eyes_off),
        (SPACE, thrown),
        ("/s/salt-ferry/print", printed),
    ],
    ids=lambda x: getattr(x, "__name__", ""),
)
def test_no_state_is_a_barrier(at, demo, address: str, state: Callable[[Page], None]) -> None:
    page = at(address)
    until(page, "document.querySelector('#lufs').textContent !== '—'")
    state(page)
    no_barrier(page)
