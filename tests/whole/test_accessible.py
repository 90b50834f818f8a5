"""Every page of the console by the rules of axe, light and dark, and no wider than its window, wide
and narrow.
"""

from __future__ import annotations

from pathlib import Path

import pytest
from playwright.sync_api import Page

from tests.repeats import first
from tests.whole.test_console import browser, page  # noqa: F401 - fixtures

pytestmark = [pytest.mark.browser, pytest.mark.xdist_group("browser")]
AXE = Path("console/node_modules/axe-core/axe.min.js")
ASK = """async () => {
  // a row that the library's tables measure by, hidden from everybody
  const seen = {exclude: [['.ant-table-measure-row']]}
  const found = await axe.run(seen, {runOnly: ['wcag2a', 'wcag2aa', 'wcag21aa']})
  return found.violations
    .filter((v) => ['serious', 'critical'].includes(v.impact))
    .map((v) => `${v.id}: ${v.nodes.slice(0, 3).map((n) => n.html.slice(0, 160)).join(' | ')}`)
}"""
SEEN = [{"width": 1280, "scheme": "light"}, {"width": 390, "scheme": "dark"}]


@pytest.fixture(scope="module")
def pages(shared):
    """One of each, with something on it."""
    schedule = {"kind": "changes", "settled": 2, "look": 30}
    files = {f"{n}.csv": b"1" for n in range(3)} | {"a" * 150 + ".flac": b"1"}
    shared.fresh_job("axed", files, schedule=schedule)
    run = shared.carried("axed")["id"]
    with shared.client() as cart:
        preview = cart.start_preview("axed")["id"]
        audit = cart.start_audit("axed")["id"]
        inventory = cart.take_inventory("pine://office/axed/")["id"]
        for number in (preview, audit, inventory):
            for _ in cart.follow(number):
                pass
    return [
        "/",
        "/copy",
        "/jobs",
        "/jobs/axed",
        "/jobs/axed/change",
        "/jobs/axed/explain?key=0.csv",
        "/jobs/new?guided",
        "/jobs/files",
        f"/previews/{preview}",
        f"/audits/{audit}",
        "/runs",
        f"/runs/{run}",
        "/schedule",
        "/stores",
        "/stores/axed",
        "/stores/axed/about",
        f"/inventories/{inventory}",
        "/stores/new",
        "/find?name=csv",
        "/people",
        "/trail",
        "/notices",
        "/audits",
        "/history",
        "/settings",
        "/me",
        "/nowhere",
    ]


@pytest.mark.timeout(400)
@pytest.mark.parametrize(
    "page", first(1, SEEN), indirect=True, ids=lambda p: f"{p['width']}-{p['scheme']}"
)
def test_no_page_has_a_serious_finding_or_is_wider_than_its_window(page: Page, shared, pages):  # noqa: F811
    source, found = AXE.read_text(), {}
    for path in pages:
        page.goto(shared.url + path)
        page.get_by_role("heading", level=1).first.wait_for()
        page.wait_for_load_state("networkidle")
        assert page.evaluate("document.documentElement.scrollWidth <= window.innerWidth"), path
        page.evaluate(source)
        if violations := page.evaluate(ASK):
            found[path] = violations
    assert found == {}
