"""What operations do to it: wrong starts, keys and databases that are lost, damaged or another's,
silent stores.
"""

from __future__ import annotations

import contextlib
import hashlib
import os
import shutil
import sqlite3
import subprocess
import threading
from pathlib import Path

import pytest

from pinecart.service.config.state import FORMAT, StateError, StateFolder
from pinecart.standins.bucket_behaviour import Behaviour
from tests.repeats import repeat
from tests.standin import SECRET
from tests.whole.house import PINECART, free_port, house, until

DATABASE = "pinecart.sqlite3"


@pytest.fixture(scope="module")
def used(tmp_path_factory):
    """A state folder that was worked with and ended cleanly; to be copied."""
    with house(tmp_path_factory.mktemp("used")) as home:
        home.fresh_job("kept", {"a": b"1"})
        assert home.carried("kept")["outcome"] == "clean"
        home.end()
        assert not list(home.state.glob("*-wal")) and not (home.state / "in-use").exists()
        yield home


def tree(root):
    if root.is_file():
        return root.read_bytes()
    return {
        str(p.relative_to(root)): hashlib.sha256(p.read_bytes()).hexdigest() if p.is_file() else ""
        for p in sorted(root.rglob("*"))
        if p.name not in ("lock", f"{DATABASE}-shm", f"{DATABASE}-wal")  # opened, at most
    }


def write(name, text):
    return lambda state: (state / name).write_bytes(text)


def another_database(state):
    with contextlib.closing(sqlite3.connect(state / DATABASE)) as db, db:
        db.execute("UPDATE runs_instance SET folder = 'another'")


def broken_page(state):
    with open(state / DATABASE, "r+b") as file:
        file.seek(4096 * 3)
        file.write(b"\xff" * 8192)


def a_file(state):
    shutil.rmtree(state)
    state.write_text("notes")


def foreign(state):
    shutil.rmtree(state)
    state.mkdir()
    (state / "letters.txt").write_text("theirs")


def gone_log(state):
    (state / "in-use").write_text("1")


STARTS = [  # how the folder is, what is said, the exit code
    (a_file, "is a file", 2),
    (foreign, "holds other files", 2),
    (write("format", b""), "format can't be read", 4),
    (write("format", b"\xff\xfenonsense"), "format can't be read", 4),
    (write("format", f"{FORMAT + 90} x".encode()), "newer Pine Cart", 4),
    (lambda state: (state / "format").unlink(), "no format file", 4),
    (write(DATABASE, b""), "its records are lost", 4),
    (lambda state: (state / DATABASE).unlink(), "its records are lost", 4),
    (write(DATABASE, b"no database at all" * 1000), "is damaged", 4),
    (broken_page, "is damaged", 4),
    (another_database, "is not this folder's", 4),
    (lambda state: (state / "seal.key").unlink(), "seal.key is missing", 4),
    (
        write("seal.key", b"2OZ6YQAW3q4xk1Z0iXzFjWl4pJq0m3qS4m2j3m0o0yA="),
        "not the key of this database",
        4,
    ),
    (gone_log, "the last records", 4),
]


@pytest.mark.parametrize(("make", "said", "code"), STARTS, ids=[said for _, said, _ in STARTS])
def test_a_start_that_can_not_be_is_one_line_and_changes_nothing(used, tmp_path, make, said, code):
    state = tmp_path / "state"
    shutil.copytree(used.state, state)
    make(state)
    before = tree(state)
    command = [*PINECART, "serve", "--data", str(state), "--port", str(free_port())]
    done = subprocess.run(
        command, capture_output=True, text=True, env=used.env, timeout=60, check=False
    )
    told = done.stderr.strip().splitlines()
    assert (
        done.returncode == code
        and said in told[0]
        and told[1].startswith("code: state.")
        and len(told) == 2
    ), done
    after = tree(state)
    if isinstance(before, dict):
        for name in ("options.json", "address"):  # what this start was told
            before.pop(name, None), after.pop(name, None)
    assert after == before
    checked = subprocess.run(
        [*PINECART, "check", "--data", str(state)],
        capture_output=True,
        text=True,
        env=used.env,
        check=False,
    )
    assert checked.returncode == 1 and "✗" in checked.stdout and "Traceback" not in checked.stderr


def as_nobody(call):
    """Call it in a process of an account that may nothing; gives what StateError said."""
    reader, writer = os.pipe()
    pid = os.fork()
    if not pid:
        words = "nothing was said"
        try:
            os.setegid(65534), os.seteuid(65534)
            call()
        except StateError as exc:
            words = f"{exc.code} {exc.message}"
        except Exception as exc:  # noqa: BLE001 - it is told
            words = repr(exc)
        os.write(writer, words.encode())
        os._exit(0)
    os.close(writer)
    os.waitpid(pid, 0)
    return os.read(reader, 4096).decode()


@pytest.mark.skipif(os.geteuid() != 0, reason="needs another account")
def test_a_folder_that_is_closed_or_anothers_is_said_and_left(tmp_path):
    closed = tmp_path / "closed"
    closed.mkdir(mode=0o700)
    assert as_nobody(StateFolder(closed / "state").prepare).startswith(
        "state.not-allowed This account may not use"
    )
    assert as_nobody(StateFolder(closed).prepare).startswith("state.not-allowed")
    assert list(closed.iterdir()) == []


def test_a_first_start_on_a_full_disk_leaves_a_folder_that_can_be_started_later(
    tmp_path, monkeypatch
):
    state = StateFolder(tmp_path / "state")
    real = os.open

    def full(path, *args, **kwargs):
        if str(path).endswith("format.new"):
            raise OSError(28, "No space left on device")
        return real(path, *args, **kwargs)

    monkeypatch.setattr("os.open", full)
    with pytest.raises(StateError, match="The disk is full"):
        state.prepare()
    monkeypatch.undo()
    assert not (state.root / "format").exists()
    state.prepare()
    assert (state.root / "format").read_text().split()[0] == str(FORMAT) and state.id


def test_a_lost_key_holds_the_runs_of_its_stores_until_they_have_new_ones(tmp_path):
    with house(tmp_path) as home:
        home.fresh_job("sealed", {"a": b"1"})
        home.end()
        (home.state / "seal.key").unlink()
        made = home.run("check", "--data", str(home.state), "--new-key")
        assert made.returncode == 1 and "secret of the store office can't be read" in made.stdout
        home.start()
        with home.client() as cart:
            run = cart.start("sealed")["id"]
            held = until(
                lambda: (r := cart.run(run))["state"] == "held" and r, what="it to be held"
            )
            assert "store change office --new-secret" in held["message"]
            assert cart.stop(run)["outcome"] == "stopped"
            run = cart.start("sealed")["id"]
            until(lambda: cart.run(run)["state"] == "held")
            changed = home.run(
                "store",
                "change",
                "office",
                "--new-secret",
                "--secret-file",
                "-",
                stdin=SECRET + "\n",
            )
            assert changed.returncode == 0, changed.stderr
            assert f"run {run}" in home.run("store", "go-on", "office").stderr
            ended = until(lambda: (r := cart.run(run))["state"] == "ended" and r)
            assert ended["outcome"] == "clean"
        assert home.run("check", "--data", str(home.state)).returncode == 0
        home.end()
        home.start()  # it is this database's key now


def test_records_whose_log_was_taken_away_are_gone_on_without_only_by_word(tmp_path, used):
    state = tmp_path / "state"
    shutil.copytree(used.state, state)
    gone_log(state)
    words = ["check", "--data", str(state)]
    assert used.run(*words).returncode == 1
    assert used.run(*words, "--go-on").returncode == 0
    StateFolder(state).prepare()


def test_a_store_that_accepts_and_never_answers_does_not_make_a_run_deaf(shared):
    _, job = shared.fresh_job("silent", {f"{n}": b"x" for n in range(30)})
    with shared.behaving(put=Behaviour(delay_s=600)), shared.client() as cart:
        run = cart.start(job)["id"]
        told = until(
            lambda: (cart.run(run)["progress"] or {}).get("waits_for"), what="what it waits for"
        )
        assert "office has not answered for" in told
        cart.pause(run)
        until(lambda: cart.run(run)["state"] == "paused", 60, "the pause")
        cart.resume(run)
        until(lambda: "transferring" in (cart.run(run)["progress"] or {"phases": []})["phases"])
        cart.stop(run)
        until(lambda: cart.run(run)["state"] == "ended", 60, "the stop")
    assert shared.carried(job)["outcome"] == "clean"


def test_a_database_somebody_holds_for_a_while_loses_no_record(shared):
    _, job = shared.fresh_job("held-up", {f"{n:03}": b"x" for n in range(300)})
    with shared.behaving(put=Behaviour(per_second=100)), shared.client() as cart:
        run = cart.start(job)["id"]
        until(lambda: shared.done_of(run) > 20)
        other = sqlite3.connect(
            shared.state / DATABASE, timeout=20, isolation_level=None, check_same_thread=False
        )
        other.execute("BEGIN IMMEDIATE")
        release = threading.Timer(4, other.close)  # which rolls back
        release.start()
        release.join()
        ended = until(lambda: (r := cart.run(run))["state"] == "ended" and r)
        assert (ended["outcome"], ended["totals"]["copy"]["objects"]) == ("clean", 300)
        assert len(list(cart.objects(run))) == 300


@repeat
def test_it_ends_also_under_load_and_begins_anew(tmp_path):
    with house(tmp_path, "--runs-at-once", "3") as home:
        for n in range(3):
            home.fresh_job(f"load{n}", {f"{i:04}": b"x" * 1000 for i in range(3000)})
        with home.client() as cart:
            for n in range(3):
                cart.start(f"load{n}")
            until(
                lambda: sum(len(home.standin.shelf.buckets[f"load{n}"]) for n in range(3)) > 200,
                what="load",
            )
        assert home.end() < 20  # a second where nothing else is at work
        assert not Path(home.state / "in-use").exists()
        home.start()
        with home.client() as cart:
            until(lambda: all(r["state"] == "ended" for r in cart.runs()), 60, "all to end")
            assert {r["outcome"] for r in cart.runs()} == {"clean"}
            assert {r["totals"]["copy"]["objects"] for r in cart.runs()} == {3000}
