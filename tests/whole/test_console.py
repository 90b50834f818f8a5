"""The console in a browser: every page works by mouse and keyboard, wide and narrow, light and
dark, without an error.
"""

from __future__ import annotations

import re
import time
import uuid
from pathlib import Path

import pyotp
import pytest
from playwright.sync_api import Page, expect, sync_playwright

from pinecart.standins.bucket_behaviour import Behaviour
from tests.standin import KEY, SECRET
from tests.whole.house import until

pytestmark = [pytest.mark.browser, pytest.mark.xdist_group("browser")]
FLAGS = [
    "--no-sandbox",
    "--disable-gpu",
    "--disable-quic",
    "--no-first-run",
    "--disable-background-networking",
    "--disable-component-update",
    "--disable-sync",
    "--disable-dev-shm-usage",
]
expect.set_options(timeout=60_000)


@pytest.fixture(scope="module")
def browser():
    with sync_playwright() as play:
        opened = play.chromium.launch(executable_path="/usr/bin/chromium", args=FLAGS)
        yield opened
        opened.close()


@pytest.fixture
def page(browser, shared, request):
    """A page of somebody signed in; the test fails on any error of the page or its console."""
    wanted = getattr(request, "param", {})
    context = browser.new_context(
        viewport={"width": wanted.get("width", 1280), "height": 800},
        color_scheme=wanted.get("scheme", "light"),
        reduced_motion="reduce",
    )
    page, errors = context.new_page(), []
    page.set_default_timeout(60_000)
    page.on(
        "pageerror",
        lambda e: None if "dynamically imported module" in str(e) else errors.append(str(e)),
    )
    page.on(
        "console",
        lambda m: (
            errors.append(m.text)
            if m.type == "error"
            and not re.search("status of 4|ERR_FAILED|dynamically imported module", m.text)
            else None
        ),
    )
    name = f"viewer-{uuid.uuid4().hex[:8]}"
    with shared.client() as cart:
        cart.add_person(name, "a long password", [{"right": "administer", "label": ""}])
    page.goto(shared.url)
    page.get_by_label("Name").fill(name)
    page.get_by_label("Password").fill("a long password")
    page.keyboard.press("Enter")
    page.get_by_role("button", name="Sign out").wait_for()
    yield page
    context.close()
    assert errors == []


def test_a_wrong_password_is_said(browser, shared):
    page = browser.new_page()
    page.goto(shared.url)
    page.get_by_label("Name").fill("admin")
    page.get_by_label("Password").fill("wrong")
    page.get_by_role("button", name="Sign in").click()
    expect(page.get_by_role("alert")).to_contain_text("Name or password are not right")
    page.close()


def test_from_stores_to_a_job_to_a_run_that_is_watched_and_audited(page: Page, shared):
    root = shared.files / "console"
    root.mkdir()
    for n in range(60):
        (root / f"{n:02}.flac").write_bytes(b"x" * 1000)
    shared.standin.shelf.make("console")
    page.goto(f"{shared.url}/stores/new")
    page.get_by_label("Short name").fill("console")
    page.get_by_label("Path").fill("/etc")
    page.get_by_role("button", name="Save", exact=True).click()
    expect(page.get_by_role("alert")).to_contain_text("--folders /etc")
    page.get_by_label("Path").fill(str(root))
    page.get_by_role("button", name="Try it").click()
    expect(page.get_by_text("It works")).to_be_visible()
    page.get_by_role("button", name="Save", exact=True).click()
    expect(page.get_by_text("59.flac")).to_be_visible()

    page.goto(f"{shared.url}/jobs/new")
    for side, store, path in (("From", "console", ""), ("To", "office", "'console\\in'")):
        page.get_by_label(f"{side}: store").click()
        page.keyboard.type(store)
        page.keyboard.press("Enter")
        page.get_by_label(f"{side}: path").fill(path)
    page.get_by_label("Name", exact=True).fill("Bad Name")
    page.get_by_role("button", name="Check").click()
    expect(page.get_by_role("alert")).to_contain_text("can't be a job's name")
    page.get_by_label("Name", exact=True).fill("by-console")
    page.get_by_role("button", name="Check").click()
    expect(page.get_by_text("pine://office/console/in/")).to_be_visible()
    page.get_by_role("button", name="Save", exact=True).click()
    expect(page.get_by_text("It has never run")).to_be_visible()

    page.get_by_role("button", name="Preview").click()
    expect(page.get_by_role("heading", name="would copy 60")).to_be_visible()
    shared.standin.behaviour["put"] = Behaviour(per_second=15, fail="", match="")
    try:
        page.get_by_role("link", name="by-console").click()
        page.get_by_role("button", name="Start").click()
        expect(page.get_by_text("transferring", exact=True)).to_be_visible()
        expect(page.get_by_text(re.compile(r"\d+ s left"))).to_be_visible()
        page.reload()
        expect(page.get_by_text("Done of 60 files")).to_be_visible()
    finally:
        until(lambda: len(shared.standin.shelf.buckets["console"]) > 20, what="some files")
        shared.standin.behaviour.clear()
    expect(page.get_by_role("status")).to_contain_text("✓ clean: 60 copied, 0 replaced, 0 removed")
    expect(page.get_by_role("status")).to_contain_text("the far side holds 60 files")
    page.get_by_text("Log", exact=True).click()
    expect(page.get_by_text("Works on transfer of by-console")).to_be_visible()

    shared.standin.shelf.delete("console", "in/00.flac")
    page.get_by_role("link", name="by-console").click()
    page.get_by_role("button", name="Audit", exact=True).click()
    expect(page.get_by_role("heading", name="1 only-here")).to_be_visible()
    expect(page.get_by_role("cell", name="00.flac")).to_be_visible()


def test_a_bucket_store_is_tried_before_it_is_saved_and_its_secret_never_comes_back(
    page: Page, shared
):
    page.goto(f"{shared.url}/stores/new")
    page.get_by_text("An S3-compatible object store").click()
    page.get_by_label("Short name").fill("by-form")
    page.get_by_label("Endpoint").fill(shared.endpoint)
    page.get_by_label("Key id").fill(KEY)
    page.get_by_label("Secret").fill("wrong")
    page.get_by_role("button", name="Try it").click()
    expect(page.get_by_text("store.secret-wrong")).to_be_visible()
    page.get_by_label("Secret").fill(SECRET)
    page.get_by_role("button", name="Try it").click()
    expect(page.get_by_text("✓ It works")).to_be_visible()
    page.get_by_role("button", name="Save", exact=True).click()
    expect(page).to_have_url(re.compile("/stores/by-form"))
    page.goto(f"{shared.url}/stores/by-form/change")
    expect(page.get_by_label("New secret")).to_have_value("")
    assert SECRET not in page.content()


def test_a_run_with_problems_groups_them_by_cause(page: Page, shared):
    shared.fresh_job("troubled", {"a": b"1", "b": b"2"})
    with shared.behaving(put=Behaviour(fail="AccessDenied", match="/b")):
        run = shared.carried("troubled")
    page.goto(f"{shared.url}/")
    expect(page.get_by_role("heading", level=1)).to_contain_text("troubled")
    page.get_by_role("button", name=f"Look at run {run['id']}").click()
    expect(page.get_by_text("1 file:")).to_be_visible()
    page.get_by_role("link", name="See them").click()
    expect(page.get_by_text("store.refused: ")).to_be_visible()


def test_copy_now_from_two_places_and_kept_as_a_job(page: Page, shared):
    shared.fresh_store("copied", {"a/1.flac": b"1", "a/2.tmp": b"2"})
    shared.standin.shelf.make("copied")
    page.goto(f"{shared.url}/copy")
    page.get_by_label("From: store").click()
    page.keyboard.type("copied")
    page.keyboard.press("Enter")
    page.get_by_label("From: path").fill("a/")
    page.get_by_label("To: store").click()
    page.keyboard.type("office")
    page.keyboard.press("Enter")
    page.get_by_label("To: path").fill("copied/b/")
    page.get_by_label("Leave out").fill("*.tmp")
    page.keyboard.press("Enter")
    page.get_by_role("button", name="Check").click()
    expect(page.get_by_role("status").first).to_contain_text("copied/a/1.flac")
    page.get_by_role("button", name="Copy now").click()
    expect(page.get_by_role("status")).to_contain_text("✓ clean: 1 copied")
    page.get_by_label("Job name").fill("copied-again")
    page.get_by_role("button", name="Keep as a job").click()
    expect(page.get_by_text("Leaves out: *.tmp.")).to_be_visible()


def test_browsing_finds_looks_and_saves(page: Page, shared):
    shared.fresh_store(
        "browsed", {"sheets/a.csv": b"date,species\n", "b.flac": b"fLaC\x00", "long/er/c.csv": b"x"}
    )
    page.goto(f"{shared.url}/stores/browsed")
    page.get_by_label("Find below").fill("*.csv")
    page.keyboard.press("Enter")
    expect(page.get_by_text("long/er/c.csv")).to_be_visible()
    expect(page.get_by_text("b.flac")).to_have_count(0)
    page.get_by_role("button", name="sheets/a.csv").click()
    expect(page.get_by_text("date,species")).to_be_visible()
    with page.expect_download() as saved:
        page.get_by_role("link", name="Save to this machine").click()
    assert (
        saved.value.suggested_filename == "a.csv"
        and Path(saved.value.path()).read_bytes() == b"date,species\n"
    )
    page.get_by_role("button", name="Copy", exact=True).click()
    expect(page.get_by_label("From: path")).to_have_value("sheets/a.csv")


def test_folders_unfold_as_a_tree_and_versions_are_told(page: Page, shared):
    shelf = shared.standin.shelf
    if "tree" not in shelf.buckets:
        shelf.make("tree")
        shelf.versioned.add("tree")
        for key in ("year/day/a.csv", "year/b.csv", "c.csv", "c.csv"):
            shelf.put("tree", key, b"text of " + key.encode(), {})
    page.goto(f"{shared.url}/stores/office?path=tree/")
    page.get_by_role("button", name="More", exact=True).click()
    page.get_by_role("link", name="As a tree").click()
    for folder, inside in (("year/", "b.csv"), ("day/", "a.csv")):
        row = page.get_by_role("row", name=folder)
        row.get_by_role("button", name="Expand row").click()
        expect(page.get_by_role("button", name=inside, exact=True)).to_be_visible()
    page.get_by_role("button", name="c.csv", exact=True).click()
    expect(page.get_by_text("Versions kept: 2")).to_be_visible()
    expect(page.get_by_role("dialog").get_by_role("link", name="Save", exact=True)).to_have_count(2)
    page.keyboard.press("Escape")


def test_a_held_run_is_answered_on_a_telephone_and_undone(page: Page, shared):
    _, job = shared.fresh_job(
        "by-phone", {f"{n:02}.flac": b"x" * n for n in range(30)}, intent="mirror"
    )
    shared.carried(job)
    for n in range(5):
        (shared.files / f"by-phone/{n:02}.flac").unlink()
    run = shared.carried(job)
    page.set_viewport_size({"width": 390, "height": 800})
    page.goto(f"{shared.url}/runs/{run['id']}")
    go_on = page.get_by_role("button", name="Go on: 5 files will be set aside at office")
    expect(go_on).to_be_visible()
    assert go_on.bounding_box()["height"] >= 44
    expect(page.get_by_text("04.flac").first).to_be_visible()
    assert page.evaluate("document.documentElement.scrollWidth") <= 390
    go_on.click()
    expect(page.get_by_role("status")).to_contain_text("5 removed")
    page.get_by_role("button", name="Undo…").click()
    expect(page.get_by_role("heading", name="would bring back 5")).to_be_visible()
    page.get_by_role("button", name=f"Undo run {run['id']}").click()
    expect(page.get_by_role("status")).to_contain_text("5 brought back")
    page.set_viewport_size({"width": 1280, "height": 800})


def test_removing_from_browse_asks_before_anything_goes(page: Page, shared):
    shared.standin.shelf.make("by-browse")
    for n in range(3):
        shared.standin.shelf.put("by-browse", f"old/{n}", b"x", {})
    page.goto(f"{shared.url}/stores/office?path=by-browse/old/")
    page.get_by_role("button", name="More", exact=True).click()
    page.get_by_role("button", name="Remove all of this…").click()
    expect(page.get_by_role("button", name="Go on: 3 files")).to_be_visible()
    page.get_by_role("button", name="Cancel: leave them as they are").click()
    expect(page.get_by_role("status")).to_contain_text("□ stopped: Cancelled by")
    assert len(shared.standin.shelf.buckets["by-browse"]) == 3


def test_a_file_is_uploaded_and_found_again(page: Page, shared, tmp_path):
    shared.standin.shelf.make("by-upload")
    shared.standin.shelf.put("by-upload", "in/first", b"x", {})
    (tmp_path / "count sheet é.csv").write_bytes(b"1,2,3")
    page.goto(f"{shared.url}/stores/office?path=by-upload/in/")
    page.get_by_role("button", name="More", exact=True).click()
    page.get_by_label("File to upload").set_input_files(tmp_path / "count sheet é.csv")
    expect(page.get_by_text("count sheet é.csv")).to_be_visible()
    assert shared.standin.shelf.body("by-upload", "in/count sheet é.csv") == b"1,2,3"
    _, job = shared.fresh_job("by-find", {"wren-of-its-kind.flac": b"1"})
    shared.carried(job)
    page.get_by_role("link", name="Find").click()
    page.get_by_label("Name").fill("wren-of-its")
    page.keyboard.press("Enter")
    expect(page.get_by_text("copy: it is new")).to_be_visible()
    page.goto(
        f"{shared.url}/sides?here=pine%3A%2F%2Fby-find%2F&there=pine%3A%2F%2Foffice%2Fby-find%2Fin%2F"
    )
    expect(page.get_by_role("cell", name="= same size")).to_be_visible()
    page.goto(f"{shared.url}/stores/office")
    page.get_by_label("New bucket").fill("Bad_Name")
    expect(page.get_by_text("Small letters only.")).to_be_visible()


def test_what_was_picked_in_one_folder_is_not_asked_of_another(page: Page, shared):
    shared.fresh_store("picked", {"one/a.csv": b"1", "one/b.csv": b"2", "two/c.csv": b"3"})
    page.goto(f"{shared.url}/stores/picked?path=one/")
    page.get_by_role("row", name="a.csv").get_by_role("checkbox").check()
    expect(page.get_by_role("link", name="Save 1 as ZIP")).to_be_visible()
    page.get_by_role("link", name="picked", exact=True).click()
    page.get_by_role("link", name="two/").click()
    expect(page.get_by_role("button", name="c.csv")).to_be_visible()
    page.get_by_role("button", name="More", exact=True).click()
    expect(page.get_by_role("link", name="Save as ZIP")).to_have_attribute(
        "href", re.compile(r"path=two%2F$")
    )


def test_a_name_that_is_no_text_is_looked_at_and_copied(page: Page, shared):
    root = shared.fresh_store("no-text", {"plain": b"1"})
    (root / "caf\udce9").mkdir()
    (root / "caf\udce9" / "na\udcefve.csv").write_bytes(b"date,species\n")
    page.goto(f"{shared.url}/stores/no-text")
    page.get_by_role("link", name="caf\\xe9/").click()
    page.get_by_role("button", name="na\\xefve.csv").click()
    expect(page.get_by_text("date,species")).to_be_visible()


def test_a_service_that_went_away_is_told_where_old_answers_stand(page: Page, shared):
    page.goto(f"{shared.url}/")
    expect(
        page.get_by_role("heading", name=re.compile("jobs? (is|are|need)|No jobs"))
    ).to_be_visible()
    page.route("**/api/v1/today", lambda route: route.abort())
    expect(page.get_by_text("Not up to date")).to_be_visible(timeout=40_000)
    page.unroute("**/api/v1/today")
    page.get_by_role("button", name="Try again").click()
    expect(page.get_by_text("Not up to date")).to_have_count(0)


def test_a_part_of_the_console_that_does_not_load_leaves_the_rest(page: Page, shared):
    page.route("**/assets/FindPage*", lambda route: route.abort())
    page.get_by_role("link", name="Find", exact=True).click()
    expect(page.get_by_text("This page could not be shown")).to_be_visible()
    page.get_by_role("link", name="Jobs", exact=True).click()
    expect(page.get_by_role("heading", name="Jobs")).to_be_visible()


def test_a_runs_progress_is_not_shown_on_the_next_one(page: Page, shared):
    _, job = shared.fresh_job("progress", {f"{n:02}": b"x" for n in range(60)})
    with shared.behaving(put=Behaviour(per_second=6)):
        with shared.client() as cart:
            first = cart.start(job)["id"]
        page.goto(f"{shared.url}/runs/{first}")
        expect(page.get_by_text(re.compile("looked at [1-9]"))).to_be_visible()
        page.get_by_role("button", name="Stop").click()
        page.get_by_role("button", name="Try again").wait_for()
        shared.standin.behaviour["list"] = Behaviour(delay_s=3)
        page.get_by_role("button", name="Try again").click()
        page.wait_for_url(re.compile(rf"/runs/(?!{first}$)\d+"))
        expect(
            page.get_by_text(re.compile("waits for its turn|just begun|looked at 0"))
        ).to_be_visible()


def test_a_person_is_added_comes_in_by_a_code_and_is_switched_off(page: Page, browser, shared):
    page.get_by_role("link", name="People").click()
    page.get_by_role("button", name="Add a person").click()
    page.get_by_label("Short name").fill("Not Good")
    page.get_by_role("button", name="Add, and get an entry code").click()
    expect(page.get_by_text("A person needs a short name")).to_be_visible()
    page.get_by_label("Short name").fill("by-code")
    page.get_by_role("textbox", name="Label").fill("owls")
    page.get_by_role("button", name="Add, and get an entry code").click()
    expect(
        page.get_by_role("row", name=re.compile("by-code.*look on owls.*entry code"))
    ).to_be_visible()
    code = page.get_by_text(re.compile("^pce_")).inner_text().strip()

    context = browser.new_context()
    newcomer = context.new_page()
    newcomer.goto(f"{shared.url}/enter")
    newcomer.get_by_label("Entry code").fill(code)
    newcomer.get_by_label("New password").fill("by-code")
    newcomer.get_by_role("button", name="Set password").click()
    expect(newcomer.get_by_text(re.compile("at least 12"))).to_be_visible()
    newcomer.get_by_label("New password").fill("dawn-chorus-at-five")
    newcomer.get_by_role("button", name="Set password").click()
    newcomer.get_by_role("button", name="Sign out").wait_for()
    expect(newcomer.get_by_role("link", name="People")).to_have_count(0)

    page.reload()
    page.get_by_role("tab", name="Sessions").click()
    expect(page.get_by_role("row", name=re.compile("by-code.*End it"))).to_be_visible()
    page.get_by_role("tab", name="People").click()
    page.get_by_role("button", name="More for by-code").click()
    page.get_by_role("menuitem", name=re.compile("Switch off")).click()
    expect(page.get_by_role("row", name=re.compile("by-code.*switched off"))).to_be_visible()
    newcomer.reload()
    expect(newcomer.get_by_role("button", name="Sign in")).to_be_visible()
    context.close()

    page.goto(f"{shared.url}/trail")
    page.get_by_label("Which").fill("by-code")
    page.get_by_label("What").fill("person")
    page.get_by_role("button", name="Show", exact=True).click()
    expect(
        page.get_by_role("row", name=re.compile("person.changed.*active: yes → no")).first
    ).to_be_visible()
    assert "which=by-code" in page.url
    expect(page.get_by_role("row", name=re.compile("signed-in"))).to_have_count(0)


def test_ones_own_access_is_on_one_page(page: Page, shared):
    page.get_by_role("link", name=re.compile("^viewer-")).click()
    name = page.get_by_role("heading", name="Your access").inner_text().split()[-1]
    page.get_by_label("For").fill("nightly-script")
    page.get_by_role("button", name="Make a token").click()
    text = page.get_by_text(re.compile("^pct_")).inner_text().strip()
    with shared.client(text) as cart:
        assert cart.whoami()["name"] == name
    page.get_by_role("row", name=re.compile("nightly-script")).get_by_role(
        "button", name="Revoke"
    ).click()
    page.get_by_role("button", name="Revoke it").click()
    expect(page.get_by_text("No tokens.")).to_be_visible()
    page.get_by_label("Your password").fill("a long password")
    page.get_by_role("button", name="Set it up").click()
    secret = page.get_by_text(re.compile("^[A-Z2-7]{32}")).inner_text().strip()
    page.get_by_label("Its first code").fill(pyotp.TOTP(secret).now())
    page.get_by_role("button", name="Confirm").click()
    expect(page.get_by_text("Second factor: on")).to_be_visible()
    page.get_by_role("button", name="Sign out").click()
    page.get_by_label("Name").fill(name)
    page.get_by_label("Password").fill("a long password")
    page.get_by_role("button", name="Sign in").click()
    page.get_by_label("Code", exact=True).fill(pyotp.TOTP(secret).at(int(time.time()) + 30))
    page.get_by_role("button", name="Sign in").click()
    page.get_by_role("button", name="Sign out").wait_for()
