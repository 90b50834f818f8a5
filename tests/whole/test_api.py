"""The network interface: who may do what, what bad input gets, the stream, the published
description.
"""

from __future__ import annotations

import json
import re
import subprocess
import sys
from pathlib import Path

import httpx
import pytest
import yaml

from pinecart.client import Client, ClientError, NotAllowed, NotSignedIn
from tests.standin import KEY, SECRET
from tests.whole.house import asked
from tests.whole.test_runs import held as held_in

ORDER = ["look", "operate", "define", "administer"]
# (method, path, the right it needs); None: open to all. What is asked for is malformed or absent,
# so nothing changes.
CALLS = [
    ("GET", "health", None),
    ("GET", "schema", None),
    ("GET", "health/ready", None),
    ("GET", "forms", None),
    ("GET", "session", None),
    ("GET", "today", "look"),
    ("GET", "stores", "look"),
    ("POST", "stores", "administer"),
    ("POST", "store-forms/try", "administer"),
    ("POST", "store-forms/read", "administer"),
    ("POST", "store-forms/find", "look"),
    ("GET", "stores/none", "look"),
    ("PATCH", "stores/none", "administer"),
    ("DELETE", "stores/none", "administer"),
    ("POST", "stores/none/try", "define"),
    ("POST", "stores/none/buckets", "define"),
    ("GET", "stores/none/browse", "look"),
    ("DELETE", "stores/none/buckets/x", "administer"),
    ("GET", "stores/none/head?path=x", "look"),
    ("GET", "stores/none/versions?path=x", "look"),
    ("GET", "stores/none/save?path=x", "operate"),
    ("GET", "jobs", "look"),
    ("POST", "jobs", "define"),
    ("POST", "job-forms/check", "define"),
    ("GET", "job-files", "look"),
    ("POST", "job-files", "define"),
    ("POST", "job-forms/look", "define"),
    ("POST", "job-forms/count", "define"),
    ("GET", "job-schema", None),
    ("GET", "report-schema", None),
    ("GET", "jobs/none", "look"),
    ("PUT", "jobs/none", "define"),
    ("DELETE", "jobs/none", "define"),
    ("GET", "jobs/none/versions", "look"),
    ("GET", "jobs/none/explain?key=x", "look"),
    ("POST", "jobs/none/back", "define"),
    ("POST", "jobs/none/switch", "define"),
    ("POST", "jobs/none/copy", "define"),
    ("POST", "jobs/none/start", "operate"),
    ("POST", "jobs/none/preview", "operate"),
    ("POST", "jobs/none/audit", "operate"),
    ("POST", "carries", "operate"),
    ("POST", "carries/check", "operate"),
    ("POST", "runs/999999/keep", "define"),
    ("GET", "schedule", "look"),
    ("GET", "schedule/calendar", "look"),
    ("GET", "triggers", "look"),
    ("POST", "watches", "operate"),
    ("POST", "watches/999999", "look"),
    ("DELETE", "watches/999999", "look"),
    ("POST", "jobs/none/call", "operate"),
    ("GET", "runs", "look"),
    ("GET", "runs/999999", "look"),
    ("GET", "runs/999999/objects", "look"),
    ("GET", "runs/999999/definition", "look"),
    ("GET", "runs/999999/log", "look"),
    ("GET", "runs/999999/report", "look"),
    *[
        ("POST", f"runs/999999/{w}", "operate")
        for w in ("stop", "pause", "limit", "resume", "retry", "decline", "undo")
    ],
    ("POST", "removals", "define"),
    ("POST", "runs/999999/release", "operate"),
    ("GET", "runs/999999/events", "look"),
    ("GET", "audits", "look"),
    ("GET", "audits/999999", "look"),
    ("GET", "audits/999999/findings", "look"),
    ("GET", "previews/999999", "look"),
    ("GET", "find?name=x", "look"),
    ("GET", "sides?here=pine://none/&there=pine://none/", "look"),
    ("POST", "stores/none/files?path=x", "operate"),
    ("GET", "stores/none/archive", "operate"),
    ("GET", "stores/none/buckets", "look"),
    ("GET", "previews/999999/folders", "look"),
    ("POST", "previews/999999/start", "operate"),
    ("GET", "previews/999999/objects", "look"),
    ("POST", "stores/none/go-on", "operate"),
    ("GET", "people", "administer"),
    ("POST", "people", "administer"),
    ("PATCH", "people/none", "administer"),
    ("PUT", "session/password", "look"),
    ("GET", "tokens", "look"),
    ("POST", "tokens", "look"),
    ("DELETE", "tokens/999999", "look"),
    ("GET", "sessions", "look"),
    ("DELETE", "sessions/999999", "look"),
    ("POST", "people/none/entry-code", "administer"),
    ("POST", "session/second-factor", "look"),
    ("PUT", "session/second-factor", "look"),
    ("POST", "session/second-factor/off", "look"),
    ("GET", "trail", "administer"),
    ("GET", "trail/verify", "administer"),
    ("GET", "trail/export", "administer"),
    ("GET", "trail/key", "administer"),
    ("GET", "proof-key", "look"),
    ("GET", "runs/999999/proof", "look"),
    ("GET", "settings", "look"),
    ("GET", "room", "administer"),
    ("GET", "runs/999999/log/file", "look"),
    ("GET", "runs/999999/compare", "look"),
    ("GET", "/metrics", "look"),
    ("GET", "today/picture", "look"),
    ("GET", "weeks", "look"),
    ("GET", "inventories", "look"),
    ("POST", "inventories", "operate"),
    ("GET", "inventories/999999", "look"),
    ("POST", "audits/places", "operate"),
    ("POST", "audits/999999/repair", "define"),
    ("POST", "settings/go-on", "administer"),
    ("GET", "notices", "administer"),
    ("POST", "notices", "administer"),
    ("PATCH", "notices/999999", "administer"),
    ("DELETE", "notices/999999", "administer"),
    ("POST", "notices/999999/try", "administer"),
    ("GET", "deliveries", "administer"),
    ("GET", "mail", "administer"),
    ("PUT", "mail", "administer"),
    ("PUT", "settings", "administer"),
    ("POST", "demo/arrive", "operate"),
]


@pytest.fixture(scope="session")
def tokens(shared):
    """right → a token of a person who holds just that; and one who holds none."""
    made = {}
    with shared.client() as cart:
        for right in ORDER:
            cart.add_person(f"only-{right}", "a long password", [{"right": right, "label": ""}])
            made[right] = cart.make_token("test", person=f"only-{right}")
        cart.add_person("nobody", "a long password", [])
        made[""] = cart.make_token("test", person="nobody")
    return made


def ask(shared, method, path, token=None, **rest):
    headers = {"Authorization": f"Bearer {token}"} if token else {}
    whole = path if path.startswith("/") else f"/api/v1/{path}"
    return asked(method, f"{shared.url}{whole}", headers=headers, **rest)


@pytest.mark.parametrize(("method", "path", "needed"), CALLS, ids=str)
def test_every_call_has_its_right(shared, tokens, method, path, needed):
    assert ask(shared, method, path).status_code == (200 if needed is None else 401)
    if needed is None:
        return
    for right, token in tokens.items():
        answer = ask(shared, method, path, token)
        enough = right and ORDER.index(right) >= ORDER.index(needed)
        if enough:
            assert answer.status_code not in (401, 403), answer.text
        else:
            assert (answer.status_code, answer.json()["code"], answer.json()["right"]) == (
                403,
                "right.missing",
                needed,
            )


def test_the_rights_table_and_this_one_name_every_address(shared):
    program = (
        "import json, django; django.setup()\n"
        "from django.urls import get_resolver\n"
        "from pinecart.service.config.rights import TABLE\n"
        "names = [p.name for i in get_resolver().url_patterns for p in getattr(i, "
        "'url_patterns', [i])]\n"
        "views = [(p.name, m.upper()) for i in get_resolver().url_patterns for p in "
        "getattr(i, 'url_patterns', [i]) if p.name\n"
        "         for m in ('get','post','put','patch','delete') if "
        "hasattr(getattr(p.callback, 'cls', p.callback), m)]\n"
        "known = [[m, n, str(r or 'none'), on] for (n, m), (r, on) in TABLE.items()]\n"
        "print(json.dumps([sorted(views), sorted(TABLE), known]))"
    )
    env = shared.env | {"DJANGO_SETTINGS_MODULE": "pinecart.service.config.settings"}
    views, table, known = json.loads(
        subprocess.check_output([sys.executable, "-c", program], env=env)
    )
    told = re.findall(
        r"^\| `([A-Z]+) [^`]+` \| (\w+) \| (.*) \|$", Path("docs/security.md").read_text(), re.M
    )
    assert sorted(told) == sorted((method, right, on) for method, _, right, on in known)
    assert (
        views == table and len(CALLS) == len(table) - 3
    )  # signing in and out have tests of their own


def test_a_right_on_a_label_reaches_only_what_has_it(shared):
    shared.fresh_job("labelled", {"a": b"1"}, labels=["owls"])
    shared.fresh_job("unlabelled", {"a": b"1"})
    with shared.client(shared.person("owl-keeper", "operate", "owls")) as cart:
        assert [j["job"] for j in cart.jobs()] == ["labelled"]
        run = cart.start("labelled")
        for refused in (lambda: cart.job("unlabelled"), lambda: cart.start("unlabelled")):
            with pytest.raises(ClientError, match="no job 'unlabelled'"):
                refused()
        assert [r["id"] for r in cart.runs()] == [run["id"]]


def test_tokens_that_end_or_are_revoked_open_nothing(shared):
    with shared.client() as cart:
        cart.add_person("passing", "a long password", [{"right": "look", "label": ""}])
        text = cart.make_token("short", person="passing", days=0)
        lasting = cart.make_token("long", person="passing")
    for token, code in ((text, "token.expired"), ("pct_nonsense", "token.unknown")):
        with shared.client(token) as cart, pytest.raises(NotSignedIn) as caught:
            cart.jobs()
        assert caught.value.code == code
    with shared.client(lasting) as cart:
        cart.revoke_token(cart.tokens()[-1]["id"])
        with pytest.raises(NotSignedIn, match="revoked"):
            cart.jobs()


def test_a_revoked_token_ends_its_open_stream(shared):
    token = shared.person("watcher")
    bearer = {"Authorization": f"Bearer {token}"}
    with shared.long_run("watched") as run:
        events = f"{shared.url}/api/v1/runs/{run}/events"
        with httpx.stream("GET", events, headers=bearer, timeout=60) as answer:
            lines = answer.iter_lines()
            assert next(lines).startswith("id: ")
            with shared.client(token) as watcher:
                watcher.revoke_token(watcher.tokens()[0]["id"])
            list(lines)  # ends before the run does
        with shared.client() as cart:
            assert cart.run(run)["state"] == "working"


def test_a_browser_signs_in_by_cookie_and_changes_only_with_its_csrf_token(shared):
    with httpx.Client(base_url=f"{shared.url}/api/v1/", timeout=60) as browser:
        with shared.client() as cart:
            cart.add_person("browsing", "a long password", [{"right": "define", "label": ""}])
        assert (
            browser.post("session", json={"name": "browsing", "password": "wrong"}).json()["code"]
            == "sign-in.refused"
        )
        session = browser.post("session", json={"name": "browsing", "password": "a long password"})
        cookie = session.headers["set-cookie"]
        assert "HttpOnly" in cookie and "SameSite=Strict" in cookie
        assert browser.get("session").json()["rights"] == ["look", "operate", "define"]
        assert browser.post("job-forms/check", json={}).status_code == 403
        again = browser.post(
            "job-forms/check", json={}, headers={"X-CSRFToken": session.json()["csrf"]}
        )
        assert again.status_code == 422
        assert (
            browser.delete("session", headers={"X-CSRFToken": session.json()["csrf"]}).status_code
            == 204
        )
        assert browser.get("jobs").status_code == 401


LEG = {"from": "pine://office/a/", "to": "pine://office/b/"}


@pytest.mark.parametrize(
    ("body", "code"),
    [
        (
            {"job": "x", "legs": [{"from": "pine://offce/a/", "to": "pine://office/b/"}]},
            "store.unknown",
        ),
        (
            {"job": "x", "legs": [{"from": "pine://office/a/", "to": "pine://office/a/b/"}]},
            "job.inside-itself",
        ),
        ({"job": "x", "legs": [LEG | {"take": ["[a"]}]}, "pattern.malformed"),
        ({"job": "taken", "legs": [LEG]}, "job.taken"),
        ({"job": "No Name", "legs": []}, "job.name"),
        (
            {"job": "x", "legs": [LEG], "schedule": {"cron": "soon", "zone": "UTC"}},
            "schedule.malformed",
        ),
    ],
)
def test_bad_jobs_are_refused_and_nothing_changed(shared, body, code):
    with shared.client() as cart:
        if "taken" not in [j["job"] for j in cart.jobs()]:
            cart.define_job({"job": "taken", "legs": [LEG]})
        before = cart.jobs()
        with pytest.raises(ClientError) as caught:
            cart.define_job(body)
        assert code in [caught.value.code, *(p["code"] for p in caught.value.problems)]
        assert [j["job"] for j in cart.jobs()] == [j["job"] for j in before]
        if code == "store.unknown":
            assert "Did you mean 'office'?" in caught.value.message


@pytest.mark.parametrize(
    ("form", "code"),
    [
        ({"name": "x", "kind": "folder", "path": "/etc"}, "store.folder-not-allowed"),
        ({"name": "x", "kind": "folder", "path": "FILES/../state"}, "store.state-folder"),
        ({"name": "x", "kind": "folder", "path": "FILES/nothing-there"}, "store.no-folder"),
        ({"name": "x", "kind": "folder", "path": "relative"}, "store.path"),
        ({"name": "office", "kind": "folder", "path": "FILES"}, "store.taken"),
        (
            {"name": "x", "kind": "s3", "endpoint": "ftp://x", "key_id": "k", "secret": "s"},
            "store.address",
        ),
        ({"name": "x", "kind": "s3"}, "store.field-missing"),
    ],
)
def test_bad_stores_are_refused_and_nothing_changed(shared, form, code):
    form = {k: v.replace("FILES", str(shared.files)) for k, v in form.items()}
    with shared.client() as cart:
        before = cart.stores()
        with pytest.raises(ClientError) as caught:
            cart.add_store(form)
        assert caught.value.code == code and [s["name"] for s in cart.stores()] == [
            s["name"] for s in before
        ]
        if code == "store.folder-not-allowed":
            assert (
                "--folders /etc" in caught.value.message
                and str(shared.files) in caught.value.message
            )


@pytest.mark.parametrize(
    ("changes", "failed", "code"),
    [
        ({"secret": "wrong"}, "sign in", "store.secret-wrong"),
        ({"key_id": "NOBODY"}, "sign in", "store.key-unknown"),
        ({"endpoint": "http://127.0.0.1:1"}, "connect", "store.unreachable"),
        ({"endpoint": "http://nowhere.invalid"}, "resolve", "store.unresolved"),
        ({"endpoint": "http://169.254.1.1"}, "connect", "store.address-refused"),
        ({"key_id": "READER", "secret": "reader-secret"}, "write", "store.refused"),
        ({"write_to": "no-such-bucket"}, "list", "store.no-bucket"),
        ({}, None, ""),
    ],
)
def test_trying_a_form_says_which_step_fails(shared, changes, failed, code):
    if "tried" not in shared.standin.shelf.buckets:
        shared.standin.shelf.make("tried")
    form = {
        "kind": "s3",
        "endpoint": shared.endpoint,
        "key_id": KEY,
        "secret": SECRET,
        "write_to": "tried",
    } | changes
    with shared.client() as cart:
        told = cart.try_form(
            {k: v for k, v in form.items() if k != "write_to"}, write_to=form["write_to"]
        )
    wrong = [(s["step"], s["code"]) for s in told["steps"] if s["ok"] is False]
    assert wrong == ([(failed, code)] if failed else []) and told["ok"] is (failed is None)
    assert not shared.standin.shelf.buckets["tried"] and SECRET not in json.dumps(told)


def test_a_secret_is_nowhere_to_be_read(shared):
    with shared.client() as cart:
        assert SECRET not in json.dumps(cart.stores()) + json.dumps(cart.trail())
        with pytest.raises(ClientError) as caught:
            cart.change_store("office", {"endpoint": "http://127.0.0.1:2"})
        assert caught.value.code == "store.secret-again"
    for file in shared.state.iterdir():
        if file.is_file():
            assert SECRET.encode() not in file.read_bytes(), file


def test_problem_documents_are_what_they_say(shared):
    answer = ask(shared, "GET", "jobs/none", shared.token)
    assert answer.headers["content-type"] == "application/problem+json"
    assert {"type", "title", "status", "detail", "code"} <= answer.json().keys()
    assert ask(shared, "GET", "no/such/call", shared.token).json()["code"] == "not-found"
    assert ask(shared, "POST", "jobs", shared.token, content=b"{").json()["code"] == "body.not-json"


def test_a_stream_goes_on_where_it_was_and_begins_anew_for_a_foreign_id(shared):
    shared.fresh_job("streamed", {f"{n}": b"x" for n in range(30)})
    run = shared.carried("streamed")
    for last_id in ("", "foreign-99999999", "nonsense"):
        headers = {"Authorization": f"Bearer {shared.token}", "Last-Event-ID": last_id}
        text = asked("GET", f"{shared.url}/api/v1/runs/{run['id']}/events", headers=headers).text
        assert text.startswith("id: ") and "event: state" in text and '"outcome": "clean"' in text


def test_two_starts_of_one_job_are_one_run(shared):
    shared.fresh_job("twice", {"a": b"1"})
    with shared.client() as cart:
        run = cart.start("twice")
        with pytest.raises(ClientError, match=f"run {run['id']}") as caught:
            cart.start("twice")
        assert caught.value.code == "run.under-way"


def test_a_store_in_use_is_not_dropped_nor_moved(shared):
    shared.fresh_job("user", {"a": b"1"})
    with shared.client() as cart:
        for call in (
            lambda: cart.drop_store("user"),
            lambda: cart.change_store("user", {"path": str(shared.files)}),
        ):
            with pytest.raises(ClientError, match="used by user") as caught:
                call()
            assert caught.value.code == "store.in-use"


def test_a_store_is_bound_to_another_place_only_with_a_yes_from_each_job(shared):
    root, job = shared.fresh_job("moving", {"a": b"1", "b": b"2"}, intent="mirror")
    assert shared.carried(job)["outcome"] == "clean"
    moved = shared.files / "moved"
    root.rename(moved)
    refused = shared.run("store", "change", "moving", "--path", str(moved))
    assert (
        refused.returncode == 1
        and "used by moving" in refused.stderr
        and "rebind" in refused.stderr
    )
    assert shared.run("store", "change", "moving", "--path", str(moved), "--rebind").returncode == 0
    (moved / "c").write_bytes(b"3")
    seen = shared.run("preview", job)
    assert (
        seen.returncode == 0 and "would copy 1" in seen.stdout
    )  # the same files by name, known by content
    held = shared.carried(job)
    assert held["state"] == "held" and str(moved) in held["held"]["lists"][0]["message"]
    assert set(held_in(shared, "moving")) == {"in/a", "in/b"}
    shown = shared.run("run", "show", str(held["id"])).stdout
    assert "bound the store moving to" in shown and "--held" not in shown
    done = shared.run(
        "run", "release", str(held["id"]), "--digest", held["held"]["digest"], "--follow"
    )
    assert done.returncode == 0 and set(held_in(shared, "moving")) == {"in/a", "in/b", "in/c"}
    assert shared.carried(job)["outcome"] == "nothing-to-do"
    assert "store.rebound" in str(shared.json("trail", "list"))
    with shared.client() as cart:  # a job that is defined afterwards knows no other place
        cart.define_job(
            {
                "job": "later",
                "legs": [{"from": "pine://moving/", "to": "pine://office/moving/later/"}],
            }
        )
    assert shared.carried("later")["outcome"] == "clean"


def test_the_published_description_is_the_committed_one(shared):
    committed = yaml.safe_load((Path(__file__).parents[2] / "docs/api.yml").read_text())
    assert yaml.safe_load(ask(shared, "GET", "schema").text) == committed, (
        "make schema writes it anew"
    )


def test_browsing_pages_without_end_and_names_what_is_no_text(shared):
    root = shared.fresh_store("many", {f"{n:04}.txt": b"x" * n for n in range(250)})
    (root.joinpath("odd\udcff\n")).write_bytes(b"1")
    with shared.client() as cart:
        found = list(cart.browse("many", page=37))
        everything = list(cart.browse("many", everything=True, page=37))
    assert len({e["key"] for e in found}) == 251 and [e["key"] for e in found] == [
        e["key"] for e in everything
    ]
    assert found[-1]["key"] == "odd\\xff\\u000a"
    key_id = found[-1]["key_id"]
    with shared.client() as cart:  # what was given out is taken everywhere
        assert (
            cart.head("many", key_id)["bytes"] == 1 and b"".join(cart.save("many", key_id)) == b"1"
        )
        assert b"odd" in b"".join(cart.archive("many", "", [key_id]))
        assert [
            e["word"] for e in cart.sides("pine://many/", "pine://many/") if e["key_id"] == key_id
        ] == ["same-size"]
        copied = cart.carry(f"pine://many/{key_id}", "pine://many/copies/")["run"]["id"]
        assert [told["outcome"] for kind, told in cart.follow(copied) if kind == "state"][
            -1
        ] == "clean"
        assert (root / "copies" / "odd\udcff\n").read_bytes() == b"1"
        (record,) = cart.objects(copied)
        assert record["key_id"] == key_id and cart.find("odd")[0]["key_id"] == key_id
        gone = cart.remove(f"pine://many/copies/{record['key_id']}")["run"]["id"]
        held = [told for kind, told in cart.follow(gone) if kind == "state"][-1]["held"]
        cart.release(gone, held["digest"])
        assert [told["outcome"] for kind, told in cart.follow(gone) if kind == "state"][
            -1
        ] == "clean"
        assert not (root / "copies" / "odd\udcff\n").exists()


def test_buckets_are_made_once(shared):
    with shared.client() as cart:
        assert [cart.make_bucket("office", "fresh")["made"] for _ in range(2)] == [True, False]
        with pytest.raises(ClientError) as caught:
            cart.make_bucket("office", "No Bucket")
        assert caught.value.code == "bucket.name"


def test_what_people_do_is_in_the_trail(shared):
    with shared.client() as cart:
        cart.make_bucket("office", "trailed")
        newest = cart.trail(limit=1)[0]
    assert (newest["who"], newest["action"], newest["subject"]) == (
        "admin",
        "bucket.made",
        "office/trailed",
    )


def test_the_client_names_what_went_wrong(shared):
    with Client("http://127.0.0.1:1", "x") as cart, pytest.raises(ClientError) as caught:
        cart.jobs()
    assert caught.value.code == "service.unreachable"
    with (
        shared.client(shared.person("weak", "look")) as cart,
        pytest.raises(NotAllowed, match="administer"),
    ):
        cart.add_store({"name": "x", "kind": "folder", "path": "/"})


def test_one_file_is_looked_at_and_saved_by_right_and_recorded(shared):
    shared.fresh_store(
        "looked", {"a/note é.txt": "Lapwing, é\n".encode(), "raw": bytes(range(256)), "empty": b""}
    )
    with shared.client() as cart:
        assert cart.head("looked", "a/note é.txt")["text"] == "Lapwing, é\n"
        assert (
            cart.head("looked", "raw")["hex"].startswith("00 01 02")
            and cart.head("looked", "empty")["text"] == ""
        )
        assert b"".join(cart.save("looked", "raw")) == bytes(range(256))
        assert cart.trail(limit=1)[0]["action"] == "file.saved"
        with pytest.raises(ClientError) as caught:
            list(cart.save("looked", "../state/seal.key"))
        assert caught.value.code == "unsafe-name"
        cart.make_bucket("office", "looked")
        shared.standin.shelf.put(
            "looked", "x y", b"song", {"content-type": "audio/flac", "x-amz-meta-post": "brockwen"}
        )
        told = cart.head("office", "looked/x y")
        assert (told["content_type"], told["metadata"], told["bytes"]) == (
            "audio/flac",
            {"post": "brockwen"},
            4,
        )


def test_a_bucket_is_dropped_only_when_empty(shared):
    with shared.client() as cart:
        cart.make_bucket("office", "dropping")
        shared.standin.shelf.put("dropping", "x", b"1", {})
        with pytest.raises(ClientError) as caught:
            cart.drop_bucket("office", "dropping")
        assert (
            caught.value.code == "bucket.not-empty" and "dropping" in shared.standin.shelf.buckets
        )
        shared.standin.shelf.delete("dropping", "x")
        cart.drop_bucket("office", "dropping")
    assert "dropping" not in shared.standin.shelf.buckets


def test_finding_by_pattern_below_a_place(shared):
    shared.fresh_store("found", {"a/B1.flac": b"1", "a/c/b2.FLAC": b"2", "b3.txt": b"3"})
    with shared.client() as cart:
        assert [
            e["key"] for e in cart.browse("found", everything=True, match="b*.flac", page=1)
        ] == [
            "a/B1.flac",
            "a/c/b2.FLAC",
        ]
