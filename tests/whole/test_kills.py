"""kill -9 of run, worker or service at random moments of a run with parts, replacements, removals
and clearings.

In the end both sides are as the intent says, and nothing is left, stuck or counted twice. `make
soak` has more and larger ones.
"""

from __future__ import annotations

import contextlib
import os
import random
import signal

import pytest

from pinecart.standins.bucket_behaviour import Behaviour
from tests.repeats import first, repeat
from tests.whole.house import command, house, kill_one, parts_of, pids_of, until, works_on
from tests.whole.test_runs import held as in_bucket

SEEDS, FILES = int(os.environ.get("PINECART_SOAK", "4")), 1000
LARGE = 20 << 20  # three parts


@pytest.fixture(scope="module")
def home(tmp_path_factory):
    with house(tmp_path_factory.mktemp("kills"), "--settle-s", "0") as made:
        yield made


def begun_slowly(home, root, new, job):
    """A run of a job over a folder to which these files came, so slow that somebody may be killed
    meanwhile.
    """
    for path, body in new.items():
        (root / path).parent.mkdir(exist_ok=True)
        (root / path).write_bytes(body)
    for kind in ("put", "delete", "part", "copy"):
        home.standin.behaviour[kind] = Behaviour(delay_s=0.01)
    with home.client() as cart:
        return cart.start(job)["id"]


def uploads_of(home, bucket):
    return [u for u in home.standin.shelf.uploads.values() if u.bucket == bucket]


def test_an_upload_whose_start_was_never_answered_is_cleared(home):
    _, job = home.fresh_job("unanswered", {"long.flac": os.urandom(LARGE)})
    home.standin.behaviour["start-upload"] = Behaviour(lost=True)
    with home.client() as cart:
        run = cart.start(job)["id"]
        until(lambda: uploads_of(home, "unanswered"), what="an upload to begin")
        for pid in parts_of(home, "run"):
            with contextlib.suppress(OSError):
                if works_on(home, pid, run):
                    os.kill(pid, signal.SIGKILL)
        home.standin.behaviour.clear()
        ended = until(
            lambda: (r := cart.run(run))["state"] == "ended" and r, 60, f"run {run} to end"
        )
    assert ended["outcome"] == "clean" and ended["totals"]["copy"]["objects"] == 1
    assert len(in_bucket(home, "unanswered")) == 1 and not uploads_of(home, "unanswered")


@pytest.mark.parametrize("seed", first(2, range(SEEDS)))
def test_whatever_is_killed_it_ends_as_intended_and_counts_once(home, seed):
    chance = random.Random(seed)
    intent = ["mirror", "hand-over"][seed % 2]
    name = f"k{seed}"
    guards = {
        "removals": 10_000,
        "removals_percent": 100,
        "replacements_percent": 100,
        "lost_percent": 100,
    }
    files = {f"d{n % 7}/{n:04}.flac": b"%d" % n * 40 for n in range(FILES)}
    root, job = home.fresh_job(
        name, files, intent="renew" if intent == "hand-over" else intent, guards=guards
    )
    assert home.carried(job)["outcome"] == "clean"
    if intent == "hand-over":
        with home.client() as cart:
            cart.change_job(job, cart.job(job)["definition"] | {"intent": intent})
    names = sorted(files)
    gone = names[1::6] if intent == "mirror" else []
    changed = [n for n in names[::5] if n not in gone]
    for path in changed:
        files[path] = b"changed" + files[path]
        (root / path).write_bytes(files[path])
    for path in gone:
        del files[path]
        (root / path).unlink()
    new = {"d8/long.flac": chance.randbytes(LARGE)} | {
        f"d8/{n}.csv": b"%d" % n for n in range(FILES // 5)
    }
    files |= new
    run = begun_slowly(home, root, new, job)
    for _ in range(chance.choice([1, 2, 3])):
        home.works_on_for(chance.random() * 1.2)
        if kill_one(home, run, chance.choice(["run", "worker", "service"])):
            home.start()
    home.standin.behaviour.clear()
    with home.client() as cart:
        ended = until(
            lambda: (r := cart.run(run))["state"] == "ended" and r, 90, f"run {run} to end"
        )
        objects = list(cart.objects(run))
    there = {k[3:]: v for k, v in in_bucket(home, name).items() if k.startswith("in/")}
    assert ended["outcome"] == "clean", (ended["sentence"], ended["problem_groups"])
    assert there == files
    left = {p for p in root.rglob("*") if p.is_file()}
    kept = {p for p in left if ".pinecart-aside" in str(p)}
    assert not [p for p in left if p.name.endswith(".part")] and not uploads_of(home, name)
    counts = {d: t["objects"] for d, t in ended["totals"].items()}
    assert (counts["copy"], counts["replace"], counts["remove"]) == (
        len(new),
        len(changed),
        len(gone),
    ), ended["sentence"]
    assert len(objects) == len({o["key"] for o in objects})
    if intent == "hand-over":
        assert left == kept and len(kept) == len(files) == counts["clear"]
    else:
        assert {str(p.relative_to(root)) for p in left} == set(files)
    aside = [k for k in in_bucket(home, name) if k.startswith(f".pinecart-aside/{run}/")]
    assert len(aside) == len(changed) + len(gone)
    assert home.carried(job)["outcome"] == "nothing-to-do"


def kill_anyone(home, run, chance):
    """One of the service's processes, with -9. True: it was the one that starts the others."""
    victim = chance.choice(["run", "run", "worker", "clock", "web", "nursery", "service"])
    if victim in ("run", "worker", "service"):
        return kill_one(home, run, victim)
    for pid in parts_of(home, victim):
        with contextlib.suppress(ProcessLookupError):
            os.kill(pid, signal.SIGKILL)
    until(home.answers, what="the web process to be back")
    return False


@pytest.mark.parametrize("seed", first(1, range(SEEDS)))
def test_a_run_that_was_killed_can_be_undone_to_the_byte(home, seed):
    """Into a folder or a bucket, with replacements, removals and large files, killed some times,
    and then undone.
    """
    chance, name, to_folder = random.Random(1000 + seed), f"u{seed}", seed % 2 == 0
    guards = {
        "removals": 10_000,
        "removals_percent": 100,
        "replacements_percent": 100,
        "lost_percent": 100,
    }
    files = {f"d{n % 5}/{n:04}.flac": b"%d" % n * 30 for n in range(600)} | {
        "long.flac": chance.randbytes(LARGE)
    }
    root = home.fresh_store(name, files)
    there = home.fresh_store(f"{name}-there", {"theirs": b"left alone"}) if to_folder else None
    home.standin.shelf.make(name)
    target = f"pine://{name}-there/in/" if to_folder else f"pine://office/{name}/in/"
    with home.client() as cart:
        leg = {"from": f"pine://{name}/", "to": target}
        cart.define_job({"job": name, "legs": [leg], "intent": "mirror", "guards": guards})

    def lies_there():
        if there is None:
            return {k: v for k, v in in_bucket(home, name).items() if k.startswith("in/")}
        return {
            str(p.relative_to(there)): p.read_bytes()
            for p in there.rglob("*")
            if p.is_file() and ".pinecart-aside" not in str(p)
        }

    assert home.carried(name)["outcome"] == "clean"
    before = lies_there()
    names = sorted(files)
    changed, gone = names[::4], names[1::6]
    gone = [n for n in gone if n not in changed]
    for path in changed:
        (root / path).write_bytes(b"changed" + files[path])
    for path in gone:
        (root / path).unlink()
    new = {f"new/{n:03}": b"new %d" % n for n in range(150)} | {"new/long": chance.randbytes(LARGE)}
    run = begun_slowly(home, root, new, name)
    for _ in range(chance.choice([1, 2, 3])):
        home.works_on_for(chance.random() * 0.9)
        if kill_anyone(home, run, chance):
            home.start()
    home.standin.behaviour.clear()
    until(home.answers)
    with home.client() as cart:
        ended = until(
            lambda: (r := cart.run(run))["state"] == "ended" and r, 90, f"run {run} to end"
        )
        counts = {d: t["objects"] for d, t in ended["totals"].items()}
        assert (ended["outcome"], counts["copy"], counts["replace"], counts["remove"]) == (
            "clean",
            len(new),
            len(changed),
            len(gone),
        ), ended["sentence"]
        undo = cart.undo(run)["id"]
        undone = until(
            lambda: (r := cart.run(undo))["state"] == "ended" and r, 90, f"run {undo} to end"
        )
    assert undone["outcome"] == "clean", (undone["sentence"], undone["problem_groups"])
    assert lies_there() == before
    if there is not None:
        assert not list(there.rglob("*.part"))
    meant = home.sql("SELECT count(*) FROM runs_asiderow WHERE run_id = ? AND state = 'meant'", run)
    assert meant == [(0,)]


@pytest.fixture(scope="module")
def helped(tmp_path_factory):
    with house(tmp_path_factory.mktemp("helped"), "--helpers", "2") as made:
        yield made


def helpers_of(home):
    return [p for p in pids_of(home.process.pid) if command(p).rstrip().endswith("worker.helper")]


@pytest.mark.parametrize("seed", first(1, range(max(4, SEEDS // 4))))
def test_helpers_and_those_they_help_may_die(helped, seed):
    """Small files carried by other processes: whoever is killed, each arrives once and is counted
    once.
    """
    home, chance, name, to_folder = helped, random.Random(seed), f"h{seed}", seed % 2
    files = {f"d{n % 7}/{n:04}.flac": b"%d" % n * 40 for n in range(FILES * 4)}
    if not to_folder:
        files["long.flac"] = bytes([seed % 256, 1, 2, 3]) * (
            25 << 20
        )  # 13 parts, which helpers send as well
    root = home.fresh_store(name, files)
    there = home.fresh_store(f"{name}-there", {"theirs": b"left alone"}) if to_folder else None
    home.standin.shelf.make(name)
    target = f"pine://{name}-there/in/" if to_folder else f"pine://office/{name}/in/"
    for kind, delay_s in (("put", 0.005), ("get", 0.005), ("part", 0.3)):
        home.standin.behaviour[kind] = Behaviour(delay_s=delay_s)
    with home.client() as cart:
        cart.define_job({"job": name, "legs": [{"from": f"pine://{name}/", "to": target}]})
        run = cart.start(name)["id"]
        until(lambda: helpers_of(home), what="helpers")
        for victim in chance.sample(["helper", "helper", "run"], chance.choice([1, 2, 3])):
            home.works_on_for(chance.random() * 0.6)
            found = (
                helpers_of(home)
                if victim == "helper"
                else [p for p in parts_of(home, "run") if works_on(home, p, run)]
            )
            for pid in found[:1]:
                with contextlib.suppress(ProcessLookupError):
                    os.kill(pid, signal.SIGKILL)
        home.standin.behaviour.clear()
        ended = until(
            lambda: (r := cart.run(run))["state"] == "ended" and r, 90, f"run {run} to end"
        )
        objects = list(cart.objects(run))
    assert ended["outcome"] == "clean", (ended["sentence"], ended["problem_groups"])
    assert len(objects) == len({o["key"] for o in objects}) == len(files)
    if there:
        found = {str(p.relative_to(there)): p.read_bytes() for p in there.rglob("*") if p.is_file()}
        assert found == {f"in/{k}": v for k, v in files.items()} | {"theirs": b"left alone"}
    else:
        assert in_bucket(home, name) == {f"in/{k}": v for k, v in files.items()}
        assert ended["totals"]["copy"]["objects"] == len(files) and not uploads_of(home, name)
    assert root.exists() and home.carried(name)["outcome"] == "nothing-to-do"
    until(lambda: not helpers_of(home), what="the helpers to end with their run")


def test_helpers_send_parts_of_a_large_file(helped):
    body = os.urandom(1 << 20) * 150
    helped.fresh_job("long", {"long.flac": body})
    helped.standin.behaviour["part"] = Behaviour(delay_s=2)
    run = helped.carried("long")
    helped.standin.behaviour.clear()
    assert run["outcome"] == "clean" and in_bucket(helped, "long") == {"in/long.flac": body}
    with helped.client() as cart:
        told = [line for line in cart.log(run["id"])[0] if line.get("parts")]
    assert told and 4 <= told[0]["parts"] < 19


@repeat
def test_helpers_stop_with_their_run(helped):
    helped.fresh_job("stopped", {f"{n:04}": b"%d" % n for n in range(6000)})
    helped.standin.behaviour["put"] = Behaviour(delay_s=0.1)
    with helped.client() as cart:
        run = cart.start("stopped")["id"]
        until(lambda: len(in_bucket(helped, "stopped")) > 700, 60, "helpers to carry")
        cart.stop(run)
        ended = until(lambda: (r := cart.run(run))["state"] == "ended" and r, 60, "its end")
        helped.standin.behaviour.clear()
        assert (
            ended["outcome"] == "stopped"
            and ended["totals"]["copy"]["objects"] == len(in_bucket(helped, "stopped")) < 6000
        )
        assert "Helpers tried" in str(list(cart.log(run)))
    assert helped.carried("stopped")["outcome"] == "clean"
