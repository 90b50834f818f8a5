"""The ways through the console that people go every day, with nothing but a keyboard: each control
is come to by Tab, and used by the key that it is known to take.
"""

from __future__ import annotations

import pytest
from playwright.sync_api import Page, expect

from pinecart.standins.bucket_behaviour import Behaviour
from tests.whole.test_console import browser, page  # noqa: F401 - fixtures

pytestmark = [pytest.mark.browser, pytest.mark.xdist_group("browser")]
MOST_TABS = 120
NAME = """() => {
  const e = document.activeElement
  const label = e.labels && e.labels.length ? e.labels[0].innerText : ''
  return e.getAttribute('aria-label') || label || e.innerText || e.title || ''
}"""


def reach(page: Page, name: str) -> None:  # noqa: F811
    """Tab until what is called so has the focus."""
    passed = []
    for _ in range(MOST_TABS):
        page.keyboard.press("Tab")
        here = page.evaluate(NAME).strip()
        if here.startswith(name):
            return
        passed.append(here[:40])
    raise AssertionError(f"No Tab leads to {name!r}; they led to {passed}")


def press(page: Page, name: str) -> None:  # noqa: F811
    reach(page, name)
    page.keyboard.press("Enter")


def title(page: Page):  # noqa: F811
    return expect(page.get_by_role("heading", level=1))


def test_from_a_job_to_its_preview_an_explanation_and_exactly_that(page: Page, shared):  # noqa: F811
    shared.fresh_job("keyed", {"a.csv": b"1", "b.csv": b"2"})
    page.goto(f"{shared.url}/jobs")
    press(page, "keyed")
    title(page).to_have_text("keyed")
    press(page, "Preview")
    title(page).to_contain_text("would copy 2")
    press(page, "By folder")
    page.keyboard.press("ArrowRight")
    press(page, "a.csv")
    expect(page.get_by_text("It is new: it would be copied.")).to_be_visible()
    page.go_back()
    title(page).to_contain_text("would copy 2")
    press(page, "Run exactly this")
    expect(page.get_by_role("status").first).to_contain_text("2 copied")


def test_a_run_is_started_paused_gone_on_with_stopped_and_tried_again(page: Page, shared):  # noqa: F811
    shared.fresh_job("keyed-run", {f"{n:02}": b"x" for n in range(300)})
    page.goto(f"{shared.url}/jobs/keyed-run")
    with shared.behaving(put=Behaviour(delay_s=1)):
        press(page, "Start")
        expect(page.get_by_role("button", name="Pause")).to_be_visible()
        press(page, "Pause")
        page.get_by_role("button", name="Go on").wait_for()
        press(page, "Go on")
        expect(page.get_by_role("button", name="Pause")).to_be_enabled()
        press(page, "Stop")
    expect(page.get_by_role("status").first).to_contain_text("stopped")
    press(page, "Try again")
    expect(page.get_by_role("status").first).to_contain_text("clean")


def test_a_held_run_is_answered_and_a_job_switched_off_with_its_reason(page: Page, shared):  # noqa: F811
    root, job = shared.fresh_job("keyed-held", {f"{n:02}": b"x" for n in range(30)})
    with shared.client() as cart:
        cart.change_job(job, cart.job(job)["definition"] | {"intent": "mirror"})
    shared.carried(job)
    for n in range(5):
        (root / f"{n:02}").unlink()
    run = shared.carried(job)
    page.goto(f"{shared.url}/runs/{run['id']}")
    press(page, "Go on: 5 files will be set aside at office")
    expect(page.get_by_role("status").first).to_contain_text("5 removed")
    press(page, job)
    title(page).to_have_text(job)
    press(page, "More")
    expect(page.get_by_role("menuitem", name="Try the first files")).to_be_focused()
    switch = page.get_by_role("menuitem", name="Switch off")
    for _ in range(4):
        page.keyboard.press("ArrowDown")
    expect(switch).to_be_focused()
    page.keyboard.press("Enter")
    expect(page.get_by_label("Why, for whoever asks later")).to_be_focused()
    page.keyboard.type("the office moves")
    page.keyboard.press("Enter")
    expect(page.get_by_text("the office moves")).to_be_visible()
