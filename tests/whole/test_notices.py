"""People are told: by a real mail server on loopback and a real web receiver; once each, in order,
whatever was away in between.
"""

from __future__ import annotations

import contextlib
import json
import threading
from datetime import UTC, datetime, timedelta
from email import message_from_bytes
from email.policy import default
from http.server import BaseHTTPRequestHandler, HTTPServer

import pytest
from aiosmtpd.controller import Controller
from aiosmtpd.smtp import AuthResult

from pinecart.client import ClientError
from pinecart.core.happenings import signature_of
from tests.whole.house import free_port, until


class MailBox:
    """What a mail server took in. refuses: it takes nothing."""

    def __init__(self):
        self.messages, self.refuses = [], False

    async def handle_DATA(self, server, session, envelope):
        if self.refuses:
            return "451 later"
        self.messages.append(message_from_bytes(envelope.content, policy=default))
        return "250 OK"


@pytest.fixture(scope="module")
def mail():
    box = MailBox()

    def signs_in(server, session, envelope, mechanism, data):
        return AuthResult(success=data.password == b"the mail password", handled=False)

    controller = Controller(
        box,
        hostname="127.0.0.1",
        port=free_port(),
        authenticator=signs_in,
        auth_require_tls=False,
    )
    controller.start()
    box.port = controller.port
    yield box
    controller.stop()


@contextlib.contextmanager
def receiver(port=0):
    """A web receiver: (port, what it was told)."""
    calls = []

    class Handler(BaseHTTPRequestHandler):
        def do_POST(self):
            body = self.rfile.read(int(self.headers["Content-Length"]))
            calls.append((self.headers, body))
            self.send_response(204)
            self.end_headers()

        def log_message(self, *words): ...

    server = HTTPServer(("127.0.0.1", port), Handler)
    thread = threading.Thread(target=server.serve_forever, args=(0.05,), daemon=True)
    thread.start()
    try:
        yield server.server_address[1], calls
    finally:
        server.shutdown()
        server.server_close()


def set_mail(cart, mail, **more):
    fields = {"host": "127.0.0.1", "port": mail.port, "security": "none", "user": "cart"}
    cart.change_mail(**fields, sender="cart@larkfell.example", password="the mail password", **more)


def names(calls):
    return [told["id"] for _, body in calls for told in json.loads(body)["notices"]]


def test_a_failed_and_a_held_run_reach_people_by_mail_with_what_to_do(shared, mail):
    shared.fresh_job("mailed", {f"{n}": b"x" for n in range(30)}, labels=["told"], intent="mirror")
    with shared.client() as cart:
        set_mail(cart, mail, address="https://cart.larkfell.example")
        wren = {"way": "mail", "to": ["wren@larkfell.example"], "label": "told"}
        made = cart.add_notice({**wren, "kinds": ["held", "problems"]})
        shared.carried("mailed")
        for n in range(15):
            (shared.files / "mailed" / f"{n}").unlink()
        run = shared.carried("mailed")
        found = until(lambda: mail.messages, 60)
        text = found[0].get_content()
        assert found[0]["Subject"] == f"◆ waiting for your yes: mailed, run {run['id']}"
        assert found[0]["To"] == "wren@larkfell.example"
        assert f"https://cart.larkfell.example/runs/{run['id']}" in text
        assert "let it go on or cancel it" in text and f"run-{run['id']}-held" in text
        (row,) = until(lambda: [d for d in cart.deliveries(notice=made["id"]) if d["sent_at"]])
        assert row["run"] == run["id"]
        assert "the mail password" not in json.dumps(cart.mail()) + json.dumps(cart.trail())
        assert "mailed" in shared.run("notice", "sent").stdout
        cart.decline(run["id"])
        cart.drop_notice(made["id"])


def test_what_happened_while_the_receiver_was_away_arrives_once_and_in_order(shared):
    shared.fresh_job("calls-out", {"a": b"1"})
    port = free_port()
    with shared.client() as cart:
        kinds = ["done", "failed", "problems", "recovered"]
        made = cart.add_notice(
            {
                "way": "web",
                "to": [f"http://127.0.0.1:{port}/hook"],
                "kinds": kinds,
                "job": "calls-out",
            }
        )
        runs = [shared.carried("calls-out")["id"]]
        until(lambda: any(d["tries"] for d in cart.deliveries(notice=made["id"])), 60)
        assert "127.0.0.1" in cart.notices()[-1]["message"]
        link = shared.files / "calls-out" / "link"
        link.symlink_to("a")
        runs.append(shared.carried("calls-out")["id"])
        link.unlink()
        runs.append(shared.carried("calls-out")["id"])
        with receiver(port) as (_, calls):
            shared.sql("UPDATE notices_delivery SET next_try=datetime('now','-1 minute')")
            until(lambda: not cart.notices()[-1]["waiting"], 60)
        told = names(calls)
        kinds = ("done", "problems", "recovered")
        assert told == [f"run-{run}-{kind}" for run, kind in zip(runs, kinds, strict=True)]
        headers, body = calls[0]
        at = headers["Pinecart-Time"]
        assert headers["Pinecart-Signature"] == signature_of(made["secret"], at, body)
        assert made["secret"] not in json.dumps(cart.notices()) + json.dumps(cart.trail())
        cart.drop_notice(made["id"])


def test_a_try_tells_at_once_whether_it_was_sent(shared, mail):
    with shared.client() as cart:
        set_mail(cart, mail)
        told = shared.json("notice", "add", "--mail", "wren@larkfell.example")
        before = len(mail.messages)
        assert shared.run("notice", "try", str(told["id"])).returncode == 0
        assert "This is a try" in mail.messages[before].get_content()
        mail.refuses = True
        try:
            refused = shared.run("notice", "try", str(told["id"]))
        finally:
            mail.refuses = False
        assert refused.returncode == 1 and "451" in refused.stdout
        cart.change_mail(**{**cart.mail(), "host": "127.0.0.1", "password": "wrong"})
        assert "535" in shared.run("notice", "try", str(told["id"])).stdout
        cart.drop_notice(told["id"])


def test_only_addresses_that_a_store_may_have_are_called(shared):
    with shared.client() as cart:
        made = cart.add_notice(
            {"way": "web", "to": ["http://127.0.0.77:9/hook"], "kinds": ["done"]}
        )
        told = cart.try_notice(made["id"])
        assert not told["ok"] and "not allowed" in told["message"]
        cart.drop_notice(made["id"])
        with pytest.raises(ClientError, match="without a password"):
            cart.add_notice({"way": "web", "to": ["https://a:b@c.example/"], "kinds": ["done"]})


def test_something_expected_that_did_not_come_is_told_once_until_it_comes(shared):
    shared.fresh_job(
        "awaited", {"a": b"1"}, labels=["awaited"], expect_new="2 days", expect_files="1-5"
    )
    shared.carried("awaited")
    then = datetime.now(UTC) - timedelta(days=3)
    shared.sql(
        "UPDATE runs_run SET ended_at=? WHERE job='awaited'", then.strftime("%Y-%m-%d %H:%M:%S")
    )
    with shared.client() as cart:
        kinds = ["expected-not-come"]
        told = cart.add_notice(
            {"way": "mail", "to": ["a@b.example"], "kinds": kinds, "label": "awaited"}
        )
        found = until(lambda: cart.deliveries(notice=told["id"]), 60)
        assert [d["words"].split(":")[0] for d in found] == ["Nothing new has come for 3 days"]
        assert [late["job"] for late in cart.today()["awaited"]] == ["awaited"]
        (shared.files / "awaited" / "b").write_bytes(b"2")
        shared.carried("awaited")
        until(lambda: cart.deliveries(notice=told["id"])[0]["over_at"], 60)
        assert not cart.today()["awaited"]
        cart.drop_notice(told["id"])
        cart.drop_job("awaited")


def test_a_marker_object_tells_the_next_step_what_was_placed(shared):
    _, bucket = shared.fresh_job("marked", {"a.csv": b"1", "b.csv": b"22"})
    place = f"pine://office/{bucket}/done.json"
    told = shared.json("notice", "add", "--marker", place, "--job", "marked", "--of", "done")
    run = shared.carried("marked")
    shelf = shared.standin.shelf

    def marker():
        found = shelf.buckets[bucket].get("done.json")
        return found and json.loads(shelf.body(bucket, "done.json"))["notices"]

    (one,) = until(marker, 60)
    assert (one["id"], one["kind"]) == (f"run-{run['id']}-done", "done")
    assert [(p["key"], p["bytes"]) for p in one["placed"]] == [("a.csv", 1), ("b.csv", 2)]
    assert all(p["checksum"] for p in one["placed"])
    (shared.files / "marked" / "c.csv").write_bytes(b"3")
    again = shared.carried("marked")
    until(lambda: marker()[0]["run"] == again["id"], 60)
    assert [p["key"] for p in marker()[0]["placed"]] == ["c.csv"]
    with shared.client() as cart, pytest.raises(ClientError, match="whole name"):
        cart.drop_notice(told["id"])
        cart.add_notice({"way": "marker", "to": ["pine://office/x/"], "kinds": ["done"]})
