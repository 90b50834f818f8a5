"""What a person relies on: only what changed is carried, the counts are true, and whatever dies, it
goes on.
"""

from __future__ import annotations

import csv
import io
import json
import os
from datetime import UTC, datetime, timedelta

import pytest

from pinecart.client import ClientError
from pinecart.runner.run import MOST_AT_ONCE
from pinecart.standins.bucket_behaviour import Account, Behaviour
from tests.standin import KEY, SECRET, Busiest, running
from tests.whole.house import house, kill_one, until

FILES = {
    f"posts/{p}/{n:02}.flac": bytes([n]) * (n * 40)
    for p in ("aldermurr", "brockwen")
    for n in range(10)
} | {
    "a b/é+%#?.csv": b"1,2",
    "empty": b"",
}


def held(house, bucket):
    return {k: house.standin.shelf.body(bucket, k) for k in house.standin.shelf.buckets[bucket]}


def walked(root):
    return {f"in/{p.relative_to(root)}": p.read_bytes() for p in root.rglob("*") if p.is_file()}


def test_totals_bytes_and_checksums_are_what_lies_at_both_sides(shared):
    root, bucket = shared.fresh_job("totals", FILES)
    run = shared.carried("totals")
    here, there = walked(root), held(shared, bucket)
    assert here == there
    total = {"objects": len(here), "bytes": sum(map(len, here.values()))}
    assert (run["outcome"], run["totals"]["copy"], run["far_side"]) == (
        "clean",
        total,
        {**total, "differences": 0},
    )
    assert run["sentence"].endswith("as intended") and "0 removed" in run["sentence"]


def test_a_ceiling_is_shared_by_the_runs_of_a_store_and_can_be_changed_meanwhile(shared):
    with (
        running("one", "two", server=Busiest({KEY: Account(SECRET)})) as (server, endpoint),
        shared.client() as cart,
    ):
        server.behaviour["put"] = Behaviour(delay_s=0.05)
        cart.add_store(
            {"name": "narrow", "kind": "s3", "endpoint": endpoint, "key_id": KEY, "secret": SECRET}
        )
        assert shared.run("store", "change", "narrow", "--most-at-once", "4").returncode == 0
        runs = []
        for name in ("one", "two"):
            shared.fresh_store(f"for-{name}", {f"{n:03}": b"%d" % n for n in range(400)})
            cart.define_job(
                {
                    "job": f"to-{name}",
                    "legs": [{"from": f"pine://for-{name}/", "to": f"pine://narrow/{name}/"}],
                }
            )
            runs.append(cart.start(f"to-{name}")["id"])
        until(
            lambda: all(
                "transferring" in (cart.run(r)["progress"] or {"phases": []})["phases"]
                for r in runs
            ),
            what="both to transfer",
        )

        def most_of_the_next(writes):
            server.most, first = 0, server.counts["put"]
            until(lambda: server.counts["put"] >= first + writes)
            return server.most

        until(lambda: most_of_the_next(40) <= 4, what="each to know of the other")
        assert 1 <= most_of_the_next(40) <= 4
        cart.change_store("narrow", {"most_at_once": None})
        assert all(
            until(lambda r=r: (t := cart.run(r))["state"] == "ended" and t)["outcome"] == "clean"
            for r in runs
        )
        assert server.most > 4


def test_the_reports_rows_are_the_runs_totals(shared):
    shared.fresh_job(
        "reported",
        FILES
        | {"=1+1.csv": b"formula", " =2+2.csv": b"with a blank", "\uff1d3+3.csv": b"full-width"}
        | {'say "hm", twice.csv': b"quoted", "one,two.csv": b"a comma"},
    )
    run = shared.carried("reported")
    with shared.client() as cart:
        lines = [json.loads(line) for line in "".join(cart.report(run["id"], "jsonl")).splitlines()]
        rows = list(csv.DictReader(io.StringIO("".join(cart.report(run["id"], "csv")))))
        page = "".join(cart.report(run["id"], "html"))
        schema = cart.report_schema()
    assert lines[0]["run"]["totals"] == run["totals"]
    for found, size in ((lines[1:], "bytes"), (rows, "bytes")):
        assert (len(found), sum(int(r[size]) for r in found)) == tuple(
            run["totals"]["copy"].values()
        )
    assert not any(value[:1] in tuple("=+-@") for row in rows for value in row.values())
    assert {"'=1+1.csv", "' =2+2.csv", "'\uff1d3+3.csv"} <= {r["key"] for r in rows} and all(
        r["checksum"] for r in rows
    )
    assert {'say "hm", twice.csv', "one,two.csv"} <= {r["key"] for r in rows}
    assert page.count('<tr><td class="key">') == len(rows) and "<script" not in page
    told, row = (one["properties"] for one in schema["anyOf"])
    assert lines[0]["schema"] == told["schema"]["const"]
    with shared.client() as cart:
        saved = cart.trail(limit=3)
    assert {line["action"] for line in saved} == {"report.saved"}
    types = {"integer": int, "string": str, "boolean": bool, "number": (int, float)}
    for line in lines[1:]:
        assert line.keys() == row.keys()
        assert all(isinstance(line[name], types[row[name]["type"]]) for name in row)
    assert told.keys() == lines[0].keys()
    effort, totals = lines[0]["run"]["effort"], run["totals"]
    assert effort["requests"]["office"] >= totals["copy"]["objects"]
    assert {"listing", "transferring", "checking"} <= effort["phases"].keys()
    assert sum(lines[0]["run"]["proofs"].values()) == totals["copy"]["objects"]


def test_an_audit_finds_exactly_what_was_removed_and_altered(shared):
    _, bucket = shared.fresh_job("audited", FILES)
    shared.carried("audited")
    assert shared.run("audit", "start", "audited").returncode == 0
    shared.standin.shelf.delete(bucket, "in/empty")
    shared.standin.shelf.put(bucket, "in/posts/brockwen/03.flac", b"z" * 120, {})
    puts = shared.standin.counts["put"]
    done = shared.run("--json", "audit", "start", "audited")
    found = {f["key"]: f["finding"] for f in json.loads(done.stdout)["findings"]}
    assert (done.returncode, found) == (
        1,
        {"empty": "only-here", "posts/brockwen/03.flac": "changed-since"},
    )
    assert shared.standin.counts["put"] == puts


def test_a_preview_says_what_the_run_then_does(shared):
    root, bucket = shared.fresh_job("previewed", FILES)
    previewed = shared.json("preview", "previewed")
    assert previewed["totals"]["copy"]["objects"] == len(FILES) and not held(shared, bucket)
    run = shared.carried("previewed")
    with shared.client() as cart:
        did = {(o["key"], o["decision"], o["reason"]) for o in cart.objects(run["id"])}
    assert did == {(o["key"], o["decision"], o["reason"]) for o in previewed["objects"]} and walked(
        root
    ) == held(shared, bucket)


def test_back_from_the_bucket_into_a_folder(shared):
    root, _ = shared.fresh_job("outward", FILES)
    shared.carried("outward")
    back = shared.fresh_store("back", {"kept/mine": b"mine"})
    with shared.client() as cart:
        cart.define_job(
            {
                "job": "homeward",
                "legs": [{"from": "pine://office/outward/in/", "to": "pine://back/"}],
            }
        )
    assert shared.carried("homeward")["totals"]["copy"]["objects"] == len(FILES)
    assert walked(back) == walked(root) | {"in/kept/mine": b"mine"}
    assert {os.stat(back / n).st_mtime for n in FILES} == {1_700_000_000}
    assert shared.carried("homeward")["outcome"] == "nothing-to-do"
    (back / "empty").write_bytes(b"changed by hand")
    assert shared.carried("homeward")["problem_groups"][0]["code"] == "changed-there"
    assert (back / "empty").read_bytes() == b"changed by hand"


def test_a_stop_is_clean_and_the_next_run_goes_on(shared):
    files = {f"{n:03}": b"x" for n in range(120)}
    _, bucket = shared.fresh_job("stopped", files)
    with shared.behaving(put=Behaviour(per_second=40)), shared.client() as cart:
        run = cart.start("stopped")
        until(lambda: shared.standin.shelf.buckets[bucket], what="the first object")
        cart.stop(run["id"])
        for _ in cart.follow(run["id"]):
            pass
        told = cart.run(run["id"])
    carried = told["totals"]["copy"]["objects"]
    assert told["outcome"] == "stopped" and 0 < carried == len(held(shared, bucket)) < 120
    assert shared.carried("stopped")["totals"]["copy"]["objects"] == 120 - carried


def test_the_log_tells_the_run_from_start_to_end(shared):
    shared.fresh_job("logged", FILES)
    run = shared.carried("logged")
    lines = [
        json.loads(line)
        for line in shared.run("--json", "run", "log", str(run["id"])).stdout.splitlines()
    ]
    assert lines[0]["action"] == "started" and lines[-1]["action"] == "ended"
    assert all(line["run"] == run["id"] for line in lines)


@pytest.mark.parametrize("victim", ["run", "worker"])
def test_killed_after_a_hundred_objects_it_goes_on_by_itself(tmp_path, victim):
    files = {f"{n:03}": b"body %d" % n for n in range(400)}
    with house(tmp_path, "--batch-rows", "20") as home:
        root, bucket = home.fresh_job("killed", files)
        home.standin.behaviour["put"] = Behaviour(per_second=150)
        with home.client() as cart:
            run = cart.start("killed")

            def recorded():
                return (
                    home.sql("SELECT count(*) FROM runs_recordrow WHERE run_id = ?", run["id"])[0][
                        0
                    ]
                    >= 100
                )

            until(recorded, what="100 records")
            kill_one(home, run["id"], victim)
            home.standin.behaviour.clear()
            states = [told["state"] for kind, told in cart.follow(run["id"]) if kind == "state"]
            told = cart.run(run["id"])
        assert (
            told["outcome"] == "clean"
            and "interrupted"
            in home.sql("SELECT group_concat(payload) FROM runs_runevent WHERE kind = 'state'")[0][
                0
            ]
        )
        assert states[-1] == "ended" and told["totals"]["copy"]["objects"] == 400
        assert (
            home.standin.counts["put"] <= 400 + MOST_AT_ONCE + 20 + 2
        )  # in flight, not yet recorded, and two probes
        assert held(home, bucket) == walked(root)


def test_a_schedule_that_came_due_while_the_service_was_down_gives_one_run(tmp_path):
    with house(tmp_path) as home:
        home.fresh_job("nightly", FILES, schedule={"cron": "30 5 * * *", "zone": "Europe/London"})
        due = home.json("schedule", "list")[0]["next_due"]
        assert datetime.fromisoformat(due) > datetime.now(UTC)
        home.end()
        home.sql(
            "UPDATE jobs_jobrecord SET next_due = ?",
            (datetime.now(UTC) - timedelta(days=3)).strftime("%Y-%m-%d %H:%M:%S"),
        )
        home.start()
        with home.client() as cart:
            (run,) = until(
                lambda: [r for r in cart.runs() if r["state"] == "ended"], what="the run"
            )
            assert run["outcome"] == "clean" and run["cause"].startswith("schedule, due")
            assert cart.schedule()[0]["next_due"] == due
            home.end()
            home.start()
            assert len(cart.runs()) == 1


def test_a_schedule_due_while_the_job_is_still_running_is_skipped_and_recorded(tmp_path):
    with house(tmp_path) as home:
        home.fresh_job("busy", {"a": b"1"}, schedule={"cron": "30 5 * * *", "zone": "UTC"})
        home.standin.behaviour["put"] = Behaviour(delay_s=5)
        with home.client() as cart:
            run = cart.start("busy")
            home.sql("UPDATE jobs_jobrecord SET next_due = '2026-01-01 00:00:00'")
            (skipped,) = until(
                lambda: [r for r in cart.runs() if r["outcome"] == "skipped"],
                what="the skipped run",
            )
            assert f"run {run['id']} was still under way" in skipped["message"]


def test_a_running_run_takes_up_a_new_key(tmp_path):
    from pinecart.standins.bucket_behaviour import Account

    with house(tmp_path) as home:
        home.fresh_job("rekeyed", {f"{n:03}": b"x" for n in range(120)})
        home.standin.behaviour["put"] = Behaviour(per_second=20)
        with home.client() as cart:
            run = cart.start("rekeyed")
            until(lambda: home.standin.shelf.buckets["rekeyed"], what="the first object")
            home.standin.accounts["NEWKEY"] = Account("new-secret")
            cart.change_store("office", {"key_id": "NEWKEY", "secret": "new-secret"})
            until(
                lambda: len(home.standin.shelf.buckets["rekeyed"]) > 40,
                what="the new key to be in use",
            )
            del home.standin.accounts["LARKFELLKEY"]
            home.standin.behaviour.clear()
            for _ in cart.follow(run["id"]):
                pass
            assert cart.run(run["id"])["outcome"] == "clean"


def test_a_run_that_is_stopped_at_once_gives_up_what_is_in_flight(shared):
    with shared.long_run("at-once") as run, shared.client() as cart:
        until(lambda: cart.run(run)["progress"] and cart.run(run)["progress"]["in_flight"])
        assert "told to stop" in shared.run("run", "stop", str(run), "--at-once").stderr
        ended = until(lambda: (told := cart.run(run))["state"] == "ended" and told)
        assert ended["outcome"] == "stopped" and ended["totals"]["copy"]["objects"] == 0
        [told] = [line for line in cart.log(run)[0] if line["action"] == "given-up"]
        assert told["message"].startswith("It was stopped at once")  # not after the usual wait


def test_two_runs_are_compared(shared):
    root, _ = shared.fresh_job("compared", {"a": b"1", "b": b"2"})
    first = shared.carried("compared")["id"]
    (root / "c").write_bytes(b"3")
    (root / "b").write_bytes(b"22")
    (root / "link").symlink_to("a")
    second = shared.carried("compared")["id"]
    with shared.client() as cart:
        told = cart.compare(second)
        assert told["other"] == first

        def names(part):
            assert told[part]["objects"] == len(told[part]["files"])
            return sorted(file["key"] for file in told[part]["files"])

        assert (names("carried_here"), names("carried_there")) == (["c"], ["a"])
        assert (names("new_problems"), names("gone_problems")) == (["link"], [])
        with pytest.raises(ClientError, match="first of its job"):
            cart.compare(first)
    words = shared.run("run", "compare", str(second), str(first)).stdout
    assert f"▲ Problems that run {first} didn't have: 1" in words and "  link" in words


def test_a_log_is_filtered_searched_and_saved(shared):
    root, _ = shared.fresh_job("logged-lines", {"a": b"1"})
    (root / "Odd-link").symlink_to("a")
    run = shared.carried("logged-lines")["id"]
    with shared.client() as cart:
        every, after = cart.log(run)
        assert cart.log(run, after=after) == ([], after)
        bad, _ = cart.log(run, level="warning")
        assert 0 < len(bad) < len(every) and all(line["level"] != "info" for line in bad)
        named, _ = cart.log(run, text="odd-LINK")
        assert named and all("Odd-link" in json.dumps(line) for line in named)
        whole = b"".join(cart.pieces(f"runs/{run}/log/file"))
        assert [json.loads(line) for line in whole.splitlines()] == every
    told = shared.run("run", "log", str(run), "--level", "warning").stdout
    assert len(told.splitlines()) == len(bad)


def test_a_log_is_appended_to_a_file_that_its_job_names(shared):
    _, job = shared.fresh_job("logged-too", {"in/a": b"1"})
    logs = shared.fresh_store("logs", {"kept": b"1"})
    with shared.client() as cart:
        given = cart.job(job)["definition"]
        for name, code in (
            ("pine://logs/", "log.no-file"),
            ("pine://office/x", "log.no-folder"),
            ("pine://logged-too/in/a.jsonl", "log.in-its-way"),
            ("pine://nowhere/x", "store.unknown"),
        ):
            with pytest.raises(ClientError) as refused:
                cart.change_job(job, given | {"log_file": name})
            assert refused.value.problems[0]["code"] == code
        cart.change_job(job, given | {"log_file": "pine://logs/of/jobs.jsonl"})
        assert cart.store("logs")["jobs"] == [job]
        runs = [shared.carried(job)["id"] for _ in range(2)]
        lines = (logs / "of/jobs.jsonl").read_text().splitlines()
        every = [line for run in runs for line in cart.log(run)[0]]
        assert [json.loads(line) for line in lines] == every
        (logs / "of/jobs.jsonl").unlink()
        (logs / "of/jobs.jsonl").symlink_to(logs / "kept")
        run = shared.carried(job)
        assert run["outcome"] == "nothing-to-do" and (logs / "kept").read_bytes() == b"1"
        bad, _ = cart.log(run["id"], level="warning")
        assert bad[0]["action"] == "log-file"


def test_a_probe_that_may_not_be_taken_away_is_nobodys_file(shared):
    _, job = shared.fresh_job("left-probe", {"a": b"1"})
    shared.standin.old = frozenset({"checksums-ignored"})
    with shared.behaving(delete=Behaviour(fail="AccessDenied")):
        assert shared.carried(job)["outcome"] == "clean"
    shared.standin.old = frozenset()
    assert sum(".pinecart-probe-" in name for name in held(shared, "left-probe")) == 1
    back = shared.fresh_store("left-probe-back", {})
    legs = [{"from": "pine://office/left-probe/", "to": "pine://left-probe-back/"}]
    with shared.client() as cart:
        cart.define_job({"job": "left-probe-back", "legs": legs})
    assert shared.carried("left-probe-back")["totals"]["copy"]["objects"] == 1
    assert [path.name for path in back.rglob("*") if path.is_file()] == ["a"]


def test_a_try_says_that_nothing_may_be_deleted(shared):
    shared.standin.shelf.make("kept-try")
    with shared.behaving(delete=Behaviour(fail="AccessDenied")), shared.client() as cart:
        steps = cart.try_store("office", write_to="kept-try")["steps"]
    told = {step["step"]: step for step in steps}
    assert told["write"]["ok"] and told["read"]["ok"] and not told["delete"]["ok"]
    assert ".pinecart-probe-" in told["delete"]["message"]
    with shared.client() as cart:
        assert cart.try_store("office", write_to="kept-try")["ok"]  # as Today tells it to others
