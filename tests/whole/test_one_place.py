"""One more kind of store, option, trigger and format, each added in one place: it is met by every
way there is, and nothing else has to know of it.
"""

from __future__ import annotations

import os
import subprocess
import sys
from types import SimpleNamespace

import httpx
import pytest
import yaml
from playwright.sync_api import expect, sync_playwright

from pinecart.client import Client, InvalidRequest
from tests.whole.house import PINECART, asked, free_port, until
from tests.whole.test_console import FLAGS


@pytest.fixture(scope="module")
def larger(tmp_path_factory):
    state, port = tmp_path_factory.mktemp("larger") / "state", free_port()
    env = {k: v for k, v in os.environ.items() if not k.startswith(("PINECART", "DJANGO"))}
    process = subprocess.Popen(
        [sys.executable, "-m", "tests.whole.larger", str(state), str(port)],
        stdin=subprocess.PIPE,
        env=env,
    )
    url = f"http://127.0.0.1:{port}"

    def answers():
        assert process.poll() is None
        try:
            return asked("GET", f"{url}/api/v1/health").status_code == 200
        except httpx.HTTPError:
            return False

    try:
        until(answers, what="the larger service to answer")
        password = (state / "password").read_text()
        with Client(url) as cart:
            token = cart.token_for("admin", password, token_name="test")

        def run(*words, stdin=""):
            told = env | {"PINECART_URL": url, "PINECART_TOKEN": token}
            command = [*PINECART, *words]
            return subprocess.run(
                command, check=False, input=stdin, capture_output=True, text=True, env=told
            )

        yield SimpleNamespace(url=url, token=token, password=password, run=run)
    finally:
        process.terminate()
        process.wait()


@pytest.fixture(scope="module")
def cart(larger):
    with Client(larger.url, larger.token) as client:
        client.add_store({"name": "upper", "kind": "shelf", "board": "oak", "pin": "1234"})
        client.add_store({"name": "lower", "kind": "shelf", "board": "ash"})
        yield client


def test_a_kind_of_store_is_met_by_api_and_client(cart):
    told = cart.store("upper")
    assert (told["kind"], told["board"], told["address"]) == ("shelf", "oak", "oak")
    assert "pin" not in told and told["secret_since"]
    with pytest.raises(InvalidRequest) as refused:
        cart.add_store({"name": "none", "kind": "shelf"})
    assert [p["field"] for p in refused.value.problems] == ["board"]
    assert cart.try_store("upper")["steps"][0]["message"] == "The board oak is there."
    assert cart.read_pasted("board: oak")["found"] == {"kind": "shelf", "board": "oak"}


def test_a_kind_of_store_is_met_on_the_command_line(larger, cart):
    assert "--board TEXT" in larger.run("store", "add", "--help").stdout
    words = ("store", "add", "typed", "--kind", "shelf", "--board", "elm", "--pin-file", "-")
    done = larger.run(*words, stdin="99\n")
    assert done.returncode == 0, done.stderr
    assert cart.store("typed")["board"] == "elm"


def test_an_option_and_a_trigger_are_met_by_every_way_to_define_a_job(larger, cart):
    words = ("job", "define", "dawn", "--from", "pine://upper/a/", "--to", "pine://lower/b/")
    done = larger.run(*words, "--greeting", "hello", "--place", "Aldermurr")
    assert done.returncode == 0, done.stderr
    job = cart.job("dawn")
    assert "Says hello." in job["sentences"]
    assert "Runs by itself at dawn in Aldermurr." in job["sentences"]
    assert job["next_due"] and cart.schedule()[0]["when"] == "at dawn in Aldermurr"
    file = yaml.safe_load(larger.run("job", "show", "dawn", "--yaml").stdout)
    assert (file["greeting"], file["schedule"]["kind"]) == ("hello", "dawn")
    changed = cart.change_job("dawn", job["definition"] | {"greeting": ""})
    assert changed["version"] == 2 and "greeting" not in changed["definition"]


def test_a_report_format_is_met_by_api_and_command_line(larger, cart):
    cart.define_job({"job": "told", "legs": [{"from": "pine://upper/t/", "to": "pine://lower/t/"}]})
    number = cart.start("told")["id"]
    assert "".join(cart.report(number, "names")) == f"names of run {number}\n"
    done = larger.run("run", "report", str(number), "--as", "names")
    assert done.stdout == f"names of run {number}\n"


def test_each_is_met_in_the_console(larger, cart):
    with sync_playwright() as play:
        browser = play.chromium.launch(executable_path="/usr/bin/chromium", args=FLAGS)
        page = browser.new_page()
        page.goto(larger.url)
        page.get_by_label("Name").fill("admin")
        page.get_by_label("Password").fill(larger.password)
        page.get_by_role("button", name="Sign in").click()
        page.get_by_role("button", name="Sign out").wait_for()
        page.goto(f"{larger.url}/stores/new")
        page.get_by_text("A shelf in memory").click()
        page.get_by_label("Short name").fill("drawn")
        page.get_by_label("Board").fill("yew")
        page.get_by_role("button", name="Save").click()
        page.wait_for_url("**/stores/drawn")
        page.goto(f"{larger.url}/jobs/new")
        expect(page.get_by_label("Greeting")).to_be_visible()
        page.get_by_text("At dawn").click()
        expect(page.get_by_role("textbox", name="Place")).to_be_visible()
        browser.close()
