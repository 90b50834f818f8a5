"""Defining and looking ahead in a browser: step by step with places browsed, live counts, a preview
carried out exactly; the finder, the zone; what starts by itself.
"""

from __future__ import annotations

import pytest
from playwright.sync_api import Page, expect

from tests.whole.house import until
from tests.whole.test_console import browser, page  # noqa: F401 - fixtures

pytestmark = [pytest.mark.browser, pytest.mark.xdist_group("browser")]


def test_a_job_is_defined_step_by_step_and_tried_on_five_files(page: Page, shared):  # noqa: F811
    files = {f"posts/{n}.csv": b"1" for n in range(7)} | {"posts/x.tmp": b"t"}
    shared.fresh_store("stepwise", files)
    page.goto(f"{shared.url}/jobs/new?guided")
    page.get_by_label("From: browse").press("Enter")
    panel = page.get_by_role("dialog")
    panel.get_by_label("Store", exact=True).fill("stepwise")
    page.keyboard.press("Enter")
    panel.get_by_role("button", name="posts/").press("Enter")
    expect(panel.get_by_text("0.csv")).to_be_visible()
    panel.get_by_role("button", name="Take this folder").press("Enter")
    page.get_by_role("button", name="Next").press("Enter")
    page.get_by_label("To: browse").press("Enter")
    panel = page.get_by_role("dialog")
    panel.get_by_label("Store", exact=True).fill("office")
    page.keyboard.press("Enter")
    expect(panel.get_by_role("button", name="Take this folder")).to_be_disabled()
    panel.get_by_label("New bucket").fill("stepwise")
    panel.get_by_role("button", name="Make bucket").press("Enter")
    take = panel.get_by_role("button", name="Take this folder")
    expect(take).to_be_enabled()
    take.press("Enter")
    page.get_by_role("button", name="Next").press("Enter")
    beside = page.get_by_role("region", name="What lies there now")
    expect(beside.get_by_text("8 files, 8 B")).to_be_visible()
    expect(page.get_by_text("now copies 8").first).to_be_visible()
    page.get_by_role("button", name="Next").press("Enter")
    page.get_by_label("Leave out", exact=True).fill("*.tmp")
    page.keyboard.press("Enter")
    expect(beside.get_by_text("1 file: the job leaves it out")).to_be_visible()
    page.get_by_role("button", name="Next").press("Enter")
    page.get_by_role("button", name="Next").press("Enter")
    expect(page.get_by_label("Name", exact=True)).to_have_value("posts-to-office")
    page.get_by_label("Name", exact=True).fill("stepwise")
    page.reload()
    expect(page.get_by_text("As you left it: not saved yet.")).to_be_visible()
    page.get_by_role("button", name="Save and try 5 files").press("Enter")
    expect(page.get_by_role("status").first).to_contain_text("5 copied")
    with shared.client() as cart:
        (leg,) = cart.job("stepwise")["definition"]["legs"]
        assert (leg["from"], leg["to"]) == ("pine://stepwise/posts/", "pine://office/stepwise/")
        assert leg["leave_out"] == ["*.tmp"]


def test_a_preview_is_carried_out_exactly_and_the_finder_leads_to_its_job(page: Page, shared):  # noqa: F811
    root, _ = shared.fresh_job("exact-page", {"a": b"1", "b": b"2"})
    page.goto(f"{shared.url}/jobs/exact-page")
    page.get_by_role("button", name="Preview").click()
    expect(page.get_by_role("heading", level=1)).to_contain_text("would copy 2")
    expect(page.get_by_text("requests to office")).to_be_visible()
    (root / "c").write_bytes(b"3")
    page.get_by_role("button", name="Run exactly this").click()
    expect(page.get_by_role("status").first).to_contain_text("2 copied")
    expect(page.get_by_role("status").first).to_contain_text("1 left for a whole run")
    page.keyboard.press("Control+k")
    expect(page.get_by_label("A part of a name, or a run's number")).to_be_focused()
    page.keyboard.type("exact-pa")
    expect(page.get_by_role("dialog").get_by_role("button", name="exact-page job")).to_be_visible()
    page.keyboard.press("Enter")
    expect(page.get_by_role("heading", level=1)).to_have_text("exact-page")


def test_what_starts_by_itself_is_told_and_times_are_in_the_zone_one_chose(page: Page, shared):  # noqa: F811
    schedule = {"kind": "changes", "settled": 1, "look": 30}
    shared.fresh_job("watched-page", {"a": b"1"}, schedule=schedule)
    page.goto(f"{shared.url}/jobs/watched-page")
    card = page.locator(".ant-card", has_text="What starts it")
    expect(card).to_contain_text("nothing new")
    expect(card.get_by_role("link", name="run")).to_be_visible()
    page.goto(f"{shared.url}/schedule")
    expect(page.get_by_role("row", name="watched-page")).to_be_visible()
    page.get_by_label("Choose the time zone").click()
    page.get_by_label("Time zone", exact=True).fill("Australia/Lord_Howe")
    page.keyboard.press("Enter")
    page.goto(f"{shared.url}/trail")
    expect(page.get_by_text("Australia/Lord_Howe").nth(1)).to_be_visible()
    with shared.client() as cart:
        until(lambda: all(run["state"] == "ended" for run in cart.runs(job="watched-page")))
        cart.drop_job("watched-page")


def test_the_services_values_and_limits_are_set_on_their_page(page: Page, shared):  # noqa: F811
    page.goto(f"{shared.url}/settings")
    page.get_by_label("One a line, as name=value").fill("fell=north\nbad value")
    page.get_by_role("button", name="Save").click()
    expect(page.get_by_role("alert")).to_contain_text("write it as name=value")
    page.get_by_label("One a line, as name=value").fill("fell=north")
    page.get_by_role("button", name="Save").click()
    expect(page.get_by_text("It holds from the next run on.")).to_be_visible()
    with shared.client() as cart:
        assert cart.settings()["values"] == {"fell": "north"}
        cart.change_settings({"values": []})
