"""Audits: exactly what differs is found, at each depth; what was found is made right; by hand, on a
schedule, of a job or of two places, and again after a kill.
"""

from __future__ import annotations

import contextlib
import os
import random

import pytest

from pinecart.standins.bucket_behaviour import Behaviour
from tests.whole.house import kill_one, until

FILES, WITHIN_S = (100_000, 900) if "PINECART_SOAK" in os.environ else (600, 90)
pytestmark = pytest.mark.timeout(2 * WITHIN_S)


def ended(cart, audit):
    until(lambda: cart.audit(audit["id"])["state"] == "ended", WITHIN_S)
    return cart.audit(audit["id"])


def findings(cart, audit):
    found = cart.objects(audit["id"], of="audits")
    return sorted((f["key"], f["reason"]) for f in found)


@pytest.fixture(scope="module")
def folders(shared):
    """A job from one folder to another, carried once."""
    files = {f"d{n % 7}/{n:04}.csv": b"%08d" % n for n in range(FILES)}
    here = shared.fresh_store("audit-here", files)
    there = shared.fresh_store("audit-there", {})
    with shared.client() as cart:
        legs = [{"from": "pine://audit-here/", "to": "pine://audit-there/in/"}]
        cart.define_job({"job": "audited-closely", "legs": legs})
    shared.carried("audited-closely")
    return here, there / "in"


def spoil(there, count=5):
    """Alter `count` in content at equal size and time, remove as many, add as many."""
    names = sorted(str(p.relative_to(there)) for p in there.rglob("*.csv"))
    chosen = random.Random(7).sample(names, 2 * count)
    expected = []
    for name in chosen[:count]:
        was = (there / name).stat()
        (there / name).write_bytes(b"altered!")
        os.utime(there / name, ns=(was.st_atime_ns, was.st_mtime_ns))
        expected.append((name, "differs"))
    for name in chosen[count:]:
        (there / name).unlink()
        expected.append((name, "only-here"))
    for n in range(count):
        (there / f"added-{n}.csv").write_bytes(b"added")
        expected.append((f"added-{n}.csv", "only-there"))
    return sorted(expected)


def test_exactly_what_was_spoilt_is_found_and_made_right(shared, folders):
    _, there = folders
    with shared.client() as cart:
        clean = ended(cart, cart.start_audit("audited-closely", depth="content"))
        assert (clean["outcome"], clean["findings"]) == ("clean", 0)
        assert f"and content: {FILES:,} files" in clean["sentence"]
        expected = spoil(there)
        audit = ended(cart, cart.start_audit("audited-closely", depth="content"))
        assert findings(cart, audit) == expected
        told = shared.run("audit", "repair", str(audit["id"]))
        assert "would copy 5, replace 5, remove 5" in told.stdout, told.stdout + told.stderr
        preview = cart.preview_repair(audit["id"])
        until(lambda: cart.preview(preview["id"])["state"] == "ended", WITHIN_S)
        run = cart.start_exactly(preview["id"])
        until(lambda: cart.run(run["id"])["state"] == "held", WITHIN_S)
        cart.release(run["id"], cart.run(run["id"])["held"]["digest"])
        until(lambda: cart.run(run["id"])["state"] == "ended", WITHIN_S)
        done = cart.run(run["id"])["totals"]
        assert [done[d]["objects"] for d in ("copy", "replace", "remove")] == [5, 5, 5]
        again = ended(cart, cart.start_audit("audited-closely", depth="content"))
        assert (again["outcome"], again["findings"]) == ("clean", 0)


def test_a_sample_says_what_it_can_say_and_names_are_all_compared(shared, folders):
    _, there = folders
    with shared.client() as cart:
        audit = ended(cart, cart.start_audit("audited-closely", depth="content", sample=10))
        looked = audit["reasons"]["leave recognised"]
        assert FILES / 30 < looked < FILES / 5
        assert audit["reasons"]["leave same"] + looked == FILES
        assert f"a random {looked}" in audit["sentence"] and "95 % sure" in audit["sentence"]
        name = next(there.rglob("*.csv"))
        body = name.read_bytes()
        name.unlink()
        seen = ended(cart, cart.start_audit("audited-closely", depth="content", sample=1))
        assert [why for _, why in findings(cart, seen)] == ["only-here"]
        name.write_bytes(body)


def test_two_places_are_audited_without_a_job_and_repaired(shared, folders):
    shared.standin.shelf.make("audit-places")
    with shared.client() as cart:
        run = cart.carry("pine://audit-here/d1/", "pine://office/audit-places/d1/")["run"]
        until(lambda: cart.run(run["id"])["state"] == "ended", WITHIN_S)
        places = ("pine://audit-here/d1/", "pine://office/audit-places/d1/")
        told = shared.run("audit", "start", *places, "--depth", "content")
        assert told.returncode == 0 and "✓ Both sides are the same" in told.stdout, told.stdout
        shelf = shared.standin.shelf
        key = next(k for k in shelf.buckets["audit-places"] if k.startswith("d1/"))
        shelf.put("audit-places", key, b"altered!", {})
        told = shared.run("audit", "start", *places)
        assert told.returncode == 1 and "1 changed-since" in told.stdout  # the copy is remembered
        audit = cart.audits(job="carry")[0]
        preview = cart.preview_repair(audit["id"])
        until(lambda: cart.preview(preview["id"])["state"] == "ended", WITHIN_S)
        run = cart.start_exactly(preview["id"])
        until(lambda: cart.run(run["id"])["state"] == "ended", WITHIN_S)
        assert shared.run("audit", "start", *places, "--depth", "content").returncode == 0


def test_an_audit_that_is_killed_goes_on_where_it_was(shared):
    shared.fresh_job("audit-killed", {f"{n:04}": b"x" * 10 for n in range(400)})
    shared.carried("audit-killed")
    with shared.client() as cart:
        for thing in shared.standin.shelf.buckets["audit-killed"].values():
            thing.checksums = {}
        reads = shared.standin.counts
        with shared.behaving(head=Behaviour(delay_s=0.3)):
            before = reads["head"]
            audit = cart.start_audit("audit-killed", depth="content")
            checked = shared.state / "runs" / f"{audit['id']}.checked"
            until(checked.exists, 60)
            kill_one(shared, audit["id"], "run")
        told = ended(cart, audit)
        assert (told["outcome"], told["reasons"]["leave recognised"]) == ("clean", 400)
        assert reads["head"] - before < 1.6 * 400
        assert not checked.exists()


def test_audits_come_by_themselves(shared, folders):
    with shared.client() as cart:
        definition = cart.job("audited-closely")["definition"]
        more = {"audit_at": "Sundays 03:00", "audit_depth": "content", "audit_sample": 50}
        cart.change_job("audited-closely", definition | more)
        words = cart.job("audited-closely")["sentences"]
        assert "Audited Sundays 03:00: and content, by checksum, of a sample of 50 %." in words
        known = len(cart.audits(job="audited-closely"))
        shared.sql(
            "UPDATE jobs_jobrecord SET next_audit='2026-01-04 03:00:00' WHERE name=?",
            "audited-closely",
        )
        until(lambda: len(cart.audits(job="audited-closely")) == known + 1, 30)
        audit = ended(cart, cart.audits(job="audited-closely")[0])
        assert audit["cause"].startswith("schedule of audits, due 2026-01-04")
        assert (audit["audit"]["depth"], audit["audit"]["sample"]) == ("content", 50)
        with contextlib.suppress(Exception):
            cart.drop_job("audited-closely")
