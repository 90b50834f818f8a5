"""A hunt for planted secrets: over the API, logs, database, trail, reports, process lists and what
is said when things break.
"""

from __future__ import annotations

import contextlib
import os
import signal
from pathlib import Path

import pytest
import yaml

from pinecart.client import ClientError
from pinecart.standins.bucket_behaviour import Account, Behaviour
from tests.whole.house import asked, house, pids_of, title
from tests.whole.test_ways_in import Browser

PLANTED = {
    "secret of a store": "planted-store-secret-7Q",
    "session token of a store": "planted-session-token-8W",
    "password of a proxy": "planted-proxy-password-9E",
    "password of a person": "planted-person-password-1R",
}


@pytest.fixture(scope="module")
def hunted(tmp_path_factory):
    """A house in which each secret was used, well and wrongly; and all eight of them."""
    with house(tmp_path_factory.mktemp("hunted")) as made:
        secrets = dict(PLANTED)
        used(made, secrets)
        yield made, secrets


def used(made, secrets):
    made.standin.accounts["PLANTED"] = Account(secrets["secret of a store"])
    made.fresh_store("kept", {f"{n}.csv": b"1" for n in range(30)})
    made.standin.shelf.make("planted")
    form = {
        "kind": "s3",
        "endpoint": made.endpoint,
        "key_id": "PLANTED",
        "secret": secrets["secret of a store"],
    }
    away = form | {
        "endpoint": "http://127.0.0.1:9",
        "session_token": secrets["session token of a store"],
        "proxy": "http://127.0.0.1:9",
        "proxy_user": "us",
        "proxy_password": secrets["password of a proxy"],
    }
    with made.client() as cart:
        cart.add_store(form | {"name": "planted"})
        cart.add_store(away | {"name": "away"})
        for name in ("planted", "away"):
            cart.try_store(name, write_to="planted")
        with pytest.raises(ClientError):
            list(cart.browse("away", "planted/"))
        with pytest.raises(ClientError):
            cart.add_store(
                form
                | {
                    "name": "wrong",
                    "endpoint": f"http://u:{secrets['secret of a store']}@127.0.0.1:9",
                }
            )
        cart.define_job(
            {"job": "kept", "legs": [{"from": "pine://kept/", "to": "pine://planted/planted/"}]}
        )
        cart.add_person(
            "planted", secrets["password of a person"], [{"right": "administer", "label": ""}]
        )
        secrets["token of a program"] = cart.make_token("planted", person="planted")
        secrets["entry code"] = cart.make_entry_code("planted")["code"]
    browser = Browser(made.url)
    browser.sign_in("planted", secrets["password of a person"])
    secrets["session of a browser"] = browser.http.cookies["pinecart_session"]
    secrets["second factor"] = browser.ask(
        "POST", "session/second-factor", {"password": secrets["password of a person"]}
    ).json()["secret"]
    Browser(made.url).ask(
        "POST", "entry", {"code": secrets["entry code"][:-1], "password": "short"}
    )
    assert len(secrets) == 8


def must_be_clean(where, text, secrets):
    raw = text if isinstance(text, bytes) else str(text).encode()
    assert not [name for name, secret in secrets.items() if secret.encode() in raw], where


def test_no_secret_is_told_by_any_call(hunted):
    made, secrets = hunted
    run = made.carried("kept")["id"]
    described = yaml.safe_load(Path("docs/api.yml").read_text())
    filled = {"number": str(run), "name": "planted", "bucket": "planted"}
    answered = 0
    for path, methods in described["paths"].items():
        if "get" not in methods or path.endswith("/events"):
            continue
        for name in ("planted", "away") if "/stores/" in path else ("kept",):
            at = path.format(**filled | {"name": name})
            for query in (
                "",
                "?everybodys=true",
                "?path=planted/&here=pine://planted/&there=pine://kept/&name=*&format=html",
            ):
                answer = asked(
                    "GET",
                    made.url + at + query,
                    headers={"Authorization": f"Bearer {made.token}"},
                )
                must_be_clean(at, answer.content, secrets)
                must_be_clean(at, str(answer.headers), secrets)
                answered += answer.status_code == 200
    assert answered > 50


def test_no_secret_is_among_processes_while_a_run_works(hunted):
    made, secrets = hunted
    made.fresh_store("working", {f"{n}.csv": b"1" for n in range(30)})
    with made.client() as cart, made.behaving(put=Behaviour(per_second=5)):
        cart.define_job(
            {
                "job": "working",
                "legs": [{"from": "pine://working/", "to": "pine://planted/planted/w/"}],
            }
        )
        run = cart.start("working")["id"]
        seen = 0
        for _ in cart.follow(run):
            for pid in [made.process.pid, *pids_of(made.process.pid)]:
                for file in ("cmdline", "environ"):
                    with contextlib.suppress(OSError):  # it has ended meanwhile
                        must_be_clean(
                            f"{pid} {file}", Path(f"/proc/{pid}/{file}").read_bytes(), secrets
                        )
            seen += 1
            if seen == 3:
                cart.stop(run)
        assert seen >= 3


def test_no_secret_lies_in_the_state_nor_is_said_when_things_break(hunted):
    made, secrets = hunted
    sealed = made.sql("SELECT sealed FROM stores_storerecord WHERE name = 'planted'")[0][0]
    made.sql(
        "UPDATE stores_storerecord SET sealed = ? WHERE name = 'planted'",
        b"garbled" + bytes(sealed)[7:],
    )
    done = made.run("start", "kept", "--follow")
    must_be_clean("the command line", done.stdout + done.stderr, secrets)
    made.sql("UPDATE stores_storerecord SET sealed = ? WHERE name = 'planted'", sealed)
    for pid in pids_of(made.process.pid):
        if title(pid) in ("pine-worker", "pine-nursery", "pine-run"):
            os.kill(pid, signal.SIGABRT)
    must_be_clean("the log", made.log(), secrets)
    files = [f for f in made.state.rglob("*") if f.is_file()]
    assert any(f.name.endswith("-wal") for f in files)
    for file in files:
        must_be_clean(file, file.read_bytes(), secrets)
    must_be_clean(
        "the trail", made.run("trail", "list", "--limit", "1000", "--json").stdout, secrets
    )
