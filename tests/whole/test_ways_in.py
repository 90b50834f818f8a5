"""How people come in and are kept out: entry codes, sessions, second factors, and how much one may
ask for at once.
"""

from __future__ import annotations

import contextlib
import json
import resource
import select
import socket
import time
from collections import Counter

import httpx
import pyotp
import pytest
from icalendar import Calendar

from pinecart.client import ClientError
from pinecart.standins.bucket_behaviour import Behaviour
from tests.whole.house import PASSWORD, Browser, asked, house, until

OTHER = "the-owls-are-asleep-now"


def added(house, name, right="look"):
    house.person(name, right)
    return house.browser(name)


def code_of(secret, steps=0):
    return pyotp.TOTP(secret).at(int(time.time()) + 30 * steps)


def with_factor(browser, password=PASSWORD):
    """Its secret. Its code of now is taken already."""
    secret = browser.ask("POST", "session/second-factor", {"password": password}).json()["secret"]
    assert browser.ask("PUT", "session/second-factor", {"code": code_of(secret)}).status_code == 204
    return secret


# --- entry codes


def test_a_person_comes_in_by_a_code_that_works_once(shared):
    made = json.loads(shared.run("person", "add", "newcomer", "--right", "look", "--json").stdout)
    code, browser = made["entry_code"]["code"], Browser(shared.url)
    assert (
        browser.sign_in("newcomer", "").status_code == 422
        and browser.sign_in("newcomer").status_code == 401
    )
    weak = browser.ask("POST", "entry", {"code": code, "password": "too short"})
    assert weak.json()["problems"][0]["code"] == "password.weak", weak.text
    assert (
        browser.ask("POST", "entry", {"code": code, "password": PASSWORD}).json()["name"]
        == "newcomer"
    )
    assert browser.name == "newcomer"
    again = browser.ask("POST", "entry", {"code": code, "password": OTHER})
    assert again.json()["problems"][0]["code"] == "entry-code.unknown"


def test_a_new_code_ends_the_one_before_and_its_use_all_that_was_open(shared):
    browser = added(shared, "forgetful")
    with shared.client() as cart:
        token = cart.make_token("old", person="forgetful")
        first, second = (cart.make_entry_code("forgetful")["code"] for _ in range(2))
        assert any(p["name"] == "forgetful" and p["code_ends_at"] for p in cart.people())
    anew = Browser(shared.url)
    assert anew.ask("POST", "entry", {"code": first, "password": OTHER}).status_code == 422
    assert browser.name == "forgetful"
    assert anew.ask("POST", "entry", {"code": second, "password": OTHER}).status_code == 200
    assert browser.name is None
    assert (
        asked(
            "GET", f"{shared.url}/api/v1/runs", headers={"Authorization": f"Bearer {token}"}
        ).status_code
        == 401
    )


def test_whoever_is_switched_off_comes_in_by_no_code(shared):
    added(shared, "gone")
    with shared.client() as cart:
        code = cart.make_entry_code("gone")["code"]
        cart.change_person("gone", active=False)
    assert (
        Browser(shared.url).ask("POST", "entry", {"code": code, "password": OTHER}).status_code
        == 422
    )


def test_the_last_administrator_is_let_in_again_by_whoever_has_the_machine(tmp_path):
    with house(tmp_path) as made:
        browser = Browser(made.url)
        browser.sign_in("admin", made.password)
        with_factor(browser, made.password)
        done = made.run("let-in", "admin")
        assert done.returncode == 0, done.stderr
        anew = Browser(made.url).ask(
            "POST", "entry", {"code": done.stdout.strip(), "password": PASSWORD}
        )
        assert (anew.json()["name"], anew.json()["second_factor"]) == ("admin", "off")
        assert browser.name is None
        assert "no person 'nobody-such'" in made.run("let-in", "nobody-such").stderr


# --- sessions


def test_sessions_are_listed_and_ended_one_by_one(shared):
    here, there = added(shared, "twice"), Browser(shared.url)
    there.sign_in("twice")
    listed = here.ask("GET", "sessions").json()
    assert (
        [s["this"] for s in listed].count(True) == 1
        and len(listed) == 2
        and listed[0]["agent"] == "a browser"
    )
    other = next(s["id"] for s in listed if not s["this"])
    assert here.ask("DELETE", f"sessions/{other}").status_code == 204
    assert there.name is None and here.name == "twice"
    stranger = added(shared, "stranger")
    own = here.ask("GET", "sessions").json()[0]["id"]
    assert stranger.ask("DELETE", f"sessions/{own}").status_code == 404
    assert stranger.ask("GET", "sessions?everybodys=true").status_code == 403
    assert "twice" in shared.run("session", "list", "--everybodys").stdout
    assert shared.run("session", "end", str(own)).returncode == 0 and here.name is None


@pytest.mark.parametrize(("field", "hours"), [("seen_at", 2.1), ("begun_at", 12.1)])
def test_sessions_end_when_unused_and_anyway(shared, field, hours):
    browser = added(shared, f"idle-{field.replace('_', '-')}")
    number = browser.ask("GET", "sessions").json()[0]["id"]
    assert browser.name
    shared.sql(
        f"UPDATE people_signin SET {field} = datetime({field}, ?) WHERE id = ?",
        f"-{hours} hours",
        number,
    )
    assert browser.name is None and browser.ask("GET", "runs").status_code == 401


def test_a_new_password_of_ones_own_ends_the_other_sessions(shared):
    here, there = added(shared, "renewed"), Browser(shared.url)
    there.sign_in("renewed")
    assert here.ask("PUT", "session/password", {"old": PASSWORD, "new": OTHER}).status_code == 204
    assert here.name == "renewed" and there.name is None


# --- the second factor


def test_a_second_factor_is_asked_for_and_each_code_is_taken_once(shared):
    browser = added(shared, "careful-two")
    began = int(time.time()) // 30
    secret = with_factor(browser)
    anew = Browser(shared.url)
    assert anew.sign_in("careful-two").json()["code"] == "second-factor.asked"
    assert anew.sign_in("careful-two", code="000000").status_code == 401
    taken = pyotp.TOTP(secret).generate_otp(began)
    assert anew.sign_in("careful-two", code=taken).status_code == 401
    following = code_of(secret, 1)
    assert anew.sign_in("careful-two", code=following).json()["second_factor"] == "on"
    assert Browser(shared.url).sign_in("careful-two", code=following).status_code == 401
    assert secret.encode() not in (shared.state / "pinecart.sqlite3").read_bytes()
    assert secret not in shared.log()


def test_guesses_at_codes_wait_like_guesses_at_passwords(shared):
    with_factor(added(shared, "guessed-at"))
    answers = []
    for n in range(7):
        Browser(shared.url).sign_in("guessed-at")  # the right password alone resets nothing
        guess = Browser(shared.url).sign_in("guessed-at", code=f"{n:06}")
        answers.append(guess.status_code)
    assert 429 in answers and 200 not in answers


def test_it_is_taken_off_by_its_owner_with_the_password_or_by_an_administrator(shared):
    browser = added(shared, "undecided")
    for by_owner in (True, False):
        with_factor(browser)
        if by_owner:
            assert (
                browser.ask("POST", "session/second-factor/off", {"password": "wrong"}).status_code
                == 403
            )
            assert (
                browser.ask("POST", "session/second-factor/off", {"password": PASSWORD}).status_code
                == 204
            )
            shared.sql("DELETE FROM people_failures")
        else:
            assert (
                shared.run("person", "change", "undecided", "--without-second-factor").returncode
                == 0
            )
        assert Browser(shared.url).sign_in("undecided").status_code == 200
    with shared.client() as cart:
        token = cart.make_token("x", person="undecided")
    answer = asked(
        "POST",
        f"{shared.url}/api/v1/session/second-factor",
        json={"password": PASSWORD},
        headers={"Authorization": f"Bearer {token}"},
    )
    assert answer.json()["code"] == "second-factor.by-token"


def test_by_order_administrators_do_nothing_before_they_have_one(tmp_path):
    with house(tmp_path) as made:
        browser = added(made, "looker-only")
        made.end()
        made.options = ("--second-factor", "administrators")
        made.start()
        assert made.run("job", "list").returncode != 0, "a token is no way round"
        admin = Browser(made.url)
        assert admin.sign_in("admin", made.password).json()["second_factor"] == "due"
        assert admin.ask("GET", "people").json()["code"] == "second-factor.due"
        assert admin.ask("POST", "tokens", {"name": "x"}).json()["code"] == "second-factor.due"
        assert browser.ask("GET", "runs").status_code == 200, (
            "whoever is no administrator is not asked"
        )
        with_factor(admin, made.password)
        assert (
            admin.ask("GET", "people").status_code == 200
            and made.run("job", "list").returncode == 0
        )


# --- how much at once


def shown_out(lines):
    """Without `select`, which takes no file number over 1,023."""
    asked_of = select.poll()
    for line in lines:
        asked_of.register(line, select.POLLIN)
    return asked_of.poll(0)


def test_a_thousand_silent_connections_keep_nobody_waiting(shared):
    soft, hard = resource.getrlimit(resource.RLIMIT_NOFILE)
    resource.setrlimit(resource.RLIMIT_NOFILE, (min(hard, 4096), hard))
    with contextlib.ExitStack() as opened:
        silent = [
            opened.enter_context(socket.create_connection(("127.0.0.1", shared.port)))
            for _ in range(1000)
        ]
        for s in silent[::2]:
            s.send(b"GET /api/v1/health HT")
        with shared.client() as cart:
            assert cart.jobs() is not None
        assert len(shown_out(silent)) < 1000, "it was answered while they were there"
    resource.setrlimit(resource.RLIMIT_NOFILE, (soft, hard))


def test_whoever_says_nothing_is_shown_out_also_a_byte_at_a_time(shared):
    with socket.create_connection(("127.0.0.1", shared.port)) as slow:
        began = time.monotonic()
        with contextlib.suppress(BrokenPipeError, ConnectionResetError):
            for byte in b"GET /api/v1/health HTTP/1.1\r\nHost: localhost\r\nX-Slow: " + b"x" * 100:
                slow.send(bytes([byte]))
                slow.settimeout(0.5)
                with contextlib.suppress(TimeoutError):
                    if slow.recv(1) == b"":
                        break
            else:
                pytest.fail("it was listened to for a minute")
        assert time.monotonic() - began > 15


def test_nobody_has_more_than_so_many_streams(shared):
    with shared.behaving(put=Behaviour(per_second=2)):
        shared.fresh_job("watched-by-many", {f"{n}.wav": b"1" for n in range(40)})
        with shared.client() as cart, contextlib.ExitStack() as opened:
            run = cart.start("watched-by-many")["id"]
            url, headers = (
                f"{shared.url}/api/v1/runs/{run}/events",
                {"Authorization": f"Bearer {cart.make_token('watches-alone')}"},
            )
            answers, read = [], []
            for _ in range(34):
                answer = opened.enter_context(httpx.stream("GET", url, headers=headers, timeout=60))
                if answer.status_code == 200:
                    read.append(answer.iter_raw())
                    next(read[-1])
                answers.append(answer.status_code)
            assert answers == [200] * 32 + [429] * 2
            cart.stop(run)
        until(lambda: asked("GET", f"{url}", headers=headers).status_code == 200, what="room again")


def test_a_calendars_address_shows_what_is_due_and_does_nothing_else(shared):
    """By its address, which holds a token that no other call takes; no other token is taken in an
    address.
    """
    shared.fresh_job("due-daily", {"a": b"1"}, schedule={"cron": "30 5 * * *", "zone": "UTC"})
    shared.fresh_job("not-theirs", {"a": b"1"}, schedule={"cron": "30 6 * * *", "zone": "UTC"})
    shared.fresh_job(
        "due-weekly", {"a": b"1"}, labels=["fells"], schedule={"cron": "0 7 * * 1", "zone": "UTC"}
    )
    looker = shared.person("looks-at-fells", "look", "fells")
    address = f"{shared.url}/api/v1/schedule/calendar"
    made = shared.run("token", "make", "wall", "--calendar")
    assert f"Subscribe to: {address}?key=TOKEN" in made.stderr
    told = asked("GET", address, params={"key": made.stdout.strip()})
    assert told.headers["Content-Type"] == "text/calendar; charset=utf-8"
    events = Calendar.from_ical(told.content).events
    names = Counter(str(event["UID"]).rpartition("-")[0] for event in events)
    assert (names["due-daily"], names["due-weekly"]) == (14, 2)
    assert {f"{e.start:%H:%M}" for e in events if "due-daily" in e["UID"]} == {"05:30"}
    with shared.client(looker) as theirs:
        key = theirs.make_token("wall", reads_calendar=True)
        with pytest.raises(ClientError, match="make two"):
            theirs.make_token("both", reads_calendar=True, starts="due-weekly")
    told = asked("GET", address, params={"key": key})
    assert {str(e["SUMMARY"]) for e in Calendar.from_ical(told.content).events} == {"due-weekly"}

    with shared.client(key) as outside:
        for call in (outside.today, outside.schedule, lambda: outside.make_token("more")):
            with pytest.raises(ClientError) as caught:
                call()
            assert caught.value.code == "token.only-calendar"
    assert asked("GET", f"{shared.url}/api/v1/schedule", params={"key": key}).status_code == 401
    for text, code in ((looker, "token.in-address"), ("pct_none", "token.unknown")):
        refused = asked("GET", address, params={"key": text})
        assert (refused.status_code, refused.json()["code"]) == (401, code)
    with shared.client(looker) as theirs:
        (number,) = [t["id"] for t in theirs.tokens() if t["reads_calendar"]]
        theirs.revoke_token(number)
    assert asked("GET", address, params={"key": key}).status_code == 401
    with shared.client() as cart:
        for name in ("due-daily", "not-theirs", "due-weekly"):
            cart.drop_job(name)
