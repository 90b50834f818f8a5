"""A whole service under load: pages while a run writes, many jobs due at once, many who look on.
Figures are shares of what each may take.
"""

from __future__ import annotations

import contextlib
import fcntl
import json
import os
import sqlite3
import statistics
import tempfile
import threading
import time
from collections.abc import Callable, Iterator
from datetime import UTC, datetime, timedelta
from pathlib import Path
from typing import Any

import httpx

from pinecart.client import Client
from pinecart.standins.bucket_behaviour import Behaviour
from tests.whole.house import House, house, parts_of, until

PAGE_S, PAGE_CPU_S = 0.3, 0.06
CALLS = 30
IMPORT_S, MANY_S = 1.5, 120.0
VIEWERS, EVENTS_A_SECOND, LATE_S, CORE = 200, 20, 2.0, 0.05
LOOKS_S = 20.0
AT_CHANGES = {"kind": "changes", "settled": 2, "look": 5}
BURSTS, BURST_S = 4, 10
SLOW_S, HEARD_S = 60, 5
ROWS_S, GROWS_MIB = 50_000, 40
RECORD = (
    "insert into runs_recordrow (run_id, leg, key, decision, reason, size, done, seconds, "
    "crc, proof, guarded, tries, error, message, cleared, folder) values "
    "(?, 0, ?, 'copy', 'new', 10, 1, .1, 'q83vEjRWeJA=', 'read-back', 1, 1, '', '', 0, 0)"
)
PAST = timedelta(days=90)  # over which the runs are spread
CLEAN = ("copy", "new", True, "")

Add = Callable[[str, float, float], None]


def pages(add: Add, jobs: int, runs: int, records: int) -> None:
    """Each page's slowest of 30 calls (but one), and its CPU, while the run's records grow."""
    with started() as home:
        working = fill(home, jobs, runs, records)
        web = web_process(home)
        until(lambda: is_indexed(home), 3600, "the index of names")
        calls = {
            "jobs": "jobs?limit=50",
            "jobs by last outcome": "jobs?limit=50&last=problems&sort=last",
            "jobs by a part of their names": "jobs?limit=50&find=job-04",
            "runs": "runs?limit=50",
            "Today": "today",
            "a working run": f"runs/{working}",
            "its objects": f"runs/{working}/objects?limit=200",
            "its objects of one decision": f"runs/{working}/objects?limit=200&decision=replace",
            "its objects below a prefix": f"runs/{working}/objects?limit=200&prefix=d04",
            "its objects by a part of their names": f"runs/{working}/objects?limit=200&text=4321",
        }
        with writing(home, working):
            for name, path in calls.items():
                slowest_s, cpu_s = asked(home, path, web)
                add(f"{name}: p95 of {CALLS} calls, to {PAGE_S} s", slowest_s / PAGE_S, 1.0)
                add(f"{name}: CPU of a call, to {PAGE_CPU_S} s", cpu_s / PAGE_CPU_S, 1.0)


def proving(add: Add, runs: int, of_each: int, exported: int) -> None:
    """The pages that prove something, over very many records, while a run writes; and an export."""
    with started() as home:
        working = fill(home, 40, runs, exported)
        fill_records(home, working, of_each)
        web = web_process(home)
        until(lambda: is_indexed(home), 3600, "the index of names")
        ended = home.sql("select id from runs_run where state='ended' order by id desc limit 1")
        run = ended[0][0]
        calls = {
            "Today": "today",
            "its pictures": "today/picture",
            "weeks of all": "weeks",
            "weeks of a job": "weeks?job=job-004",
            "runs of a day": f"runs?limit=50&since={datetime.now(UTC):%F}T00:00:00Z",
            "a run": f"runs/{run}",
            "its objects by a part of their names": f"runs/{run}/objects?limit=200&text=0077",
            "compared with the one before": f"runs/{run}/compare?other={run - 1}",
            "find by a part of a name": "find?name=000777",
            "find what is nowhere": "find?name=nowhere-at-all",
            "audits": "audits",
            "deliveries of notices": "deliveries",
            "the trail": "trail",
            "what takes room": "room",
        }
        with writing(home, working):
            for name, path in calls.items():
                slowest_s, _ = asked(home, path, web)
                add(
                    f"{runs * of_each:,} records, {name}: p95, to {PAGE_S} s", slowest_s / PAGE_S, 1
                )
        for form in ("jsonl", "csv", "html"):
            rows_s, grown_mib = exported_at(home, working, form, exported, web)
            add(f"export of {exported:,} as {form}: {ROWS_S:,} rows/s of CPU", ROWS_S / rows_s, 1)
            add(f"and its web process grows, to {GROWS_MIB} MiB", grown_mib / GROWS_MIB, 1)


def exported_at(home: House, run: int, form: str, rows: int, web: int) -> tuple[float, float]:
    """Rows per second of the web process's CPU, and by how many MiB it grew at its peak."""
    headers = {"Authorization": f"Bearer {home.token}"}
    url = f"{home.url}/api/v1/runs/{run}/report?as={form}"
    Path(f"/proc/{web}/clear_refs").write_text("5")  # its peak is counted anew
    before, held = cpu_of(web), peak_mib(web)
    with httpx.stream("GET", url, headers=headers, timeout=3600) as answer:
        lines = sum(piece.count(b"\n") for piece in answer.iter_bytes())
    assert lines >= rows, f"{lines} lines of {rows}"
    return rows / (cpu_of(web) - before), peak_mib(web) - held


def peak_mib(pid: int) -> float:
    status = Path(f"/proc/{pid}/status").read_text()
    return int(status.partition("VmHWM:")[2].split()[0]) / 1024


def is_indexed(home: House) -> bool:
    """Whether names are found by the index, however new."""
    last = home.sql("select max(id) from runs_recordrow")[0][0]
    file = home.state / "names.sqlite3"
    if not file.exists():
        return False
    with contextlib.closing(sqlite3.connect(file, timeout=30)) as names:
        return bool(names.execute("select record from mark").fetchone()[0] == last)


def fill_records(home: House, but: int, count: int) -> None:
    """So many to each ended run."""
    with contextlib.closing(connected(home)) as db:
        ended = [row[0] for row in db.execute("select id from runs_run where id != ?", (but,))]
        for run in ended:
            with db:
                db.executemany(
                    RECORD,
                    ((run, b"posts/%03d/%06d.csv" % (n % 50, n)) for n in range(count)),
                )


def many(add: Add, jobs: int) -> None:
    with started() as home:
        files = {f"j{n:03}/{k}.csv": b"%d" % k for n in range(jobs) for k in range(10)}
        home.fresh_store("many", files)
        home.standin.shelf.make("many")
        lines = [f"pine://many/j{n:03}/,pine://office/many/{n}/,many-{n:03}" for n in range(jobs)]
        table = "\n".join(["from,to,name", *lines])
        with home.client() as cart:
            began = time.monotonic()
            cart.import_jobs(table, form="csv", save=True)
            took = time.monotonic() - began
            add(f"{jobs} jobs brought in, to {IMPORT_S} s", took / IMPORT_S, 1.0)
            home.sql("update jobs_jobrecord set next_due=?", f"{datetime.now(UTC):%F %T}")
            began = time.monotonic()
            until(lambda: all(clean(job) for job in cart.jobs()), 600, "all to be done")
            took = time.monotonic() - began
            add(f"{jobs} jobs of ten files due at once, to {MANY_S:.0f} s", took / MANY_S, 1.0)


def clean(job: dict[str, Any]) -> bool:
    return bool(job["recent"]) and job["recent"][-1]["outcome"] == "clean"


def viewers(add: Add, count: int) -> None:
    """Of one run: the share of a core that its web process takes, and how late events come."""
    with started() as home:
        run = fill(home, 1, 0, 0)
        tokens = [home.person(f"viewer-{n}") for n in range(-(-count // 30))]
        late: list[float] = []
        ended = [threading.Event() for _ in range(count)]
        seats = [tokens[n // 30] for n in range(count)]
        for seat, end in zip(seats, ended, strict=True):
            threading.Thread(target=look_on, args=(home, seat, run, late, end), daemon=True).start()
        until(lambda: len(late) >= count, 60, "everybody to look on")
        web = web_process(home)
        late.clear()
        before, began = cpu_of(web), time.monotonic()
        while time.monotonic() - began < LOOKS_S:
            tell(home, run)
            threading.Event().wait(1 / EVENTS_A_SECOND)
        share = (cpu_of(web) - before) / (time.monotonic() - began)
        add(
            f"{count} viewers at {EVENTS_A_SECOND} events a second, to 5 % of a core",
            share / CORE,
            1,
        )
        add(f"the latest of their events, to {LATE_S} s", max(late) / LATE_S, 1.0)
        now = f"{datetime.now(UTC):%F %T}"
        home.sql("update runs_run set state='ended', outcome='clean', ended_at=?", now)
        state = "insert into runs_runevent(run_id, kind, payload) values (?, 'state', '{}')"
        home.sql(state, run)
        missed = sum(not end.wait(5) for end in ended)
        add("viewers who were not told of the end", missed, 0)


def bursts(add: Add, files: int) -> None:
    """Dropped in a watched folder while they grow: how long after the last of each burst is settled
    all of it is carried, and how many runs that took.
    """
    with started() as home:
        root, job = home.fresh_job("bursts", {"first": b"1"}, schedule=AT_CHANGES)
        longest, there = 0.0, home.standin.shelf.buckets[job]
        until(lambda: there, what="the first")
        for burst in range(BURSTS):
            grown(root, burst, files // BURSTS)
            began = time.monotonic()
            wanted = 1 + (burst + 1) * (files // BURSTS)
            until(lambda wanted=wanted: len(there) >= wanted, 120, "all to be carried")
            longest = max(longest, time.monotonic() - began - AT_CHANGES["settled"])
        with home.client() as cart:
            until(lambda: all(run["state"] == "ended" for run in cart.runs(job=job)))
            runs = len(cart.runs(job=job)) - 1
        add(
            f"{files} files in bursts, carried after they settle, to {BURST_S} s",
            longest / BURST_S,
            1,
        )
        add("runs a burst", runs / BURSTS, 1)


def stops(add: Add) -> None:
    """How soon a run is paused, stopped, or stopped at once, all of whose writes take longer than
    anybody waits.
    """
    ways: dict[str, Callable[[Client, int], object]] = {
        "pause": lambda cart, run: cart.pause(run),
        "stop": lambda cart, run: cart.stop(run),
        "stop at once": lambda cart, run: cart.stop(run, at_once=True),
    }
    with started() as home, home.client() as cart:
        for name, ask in ways.items():
            job = name.replace(" ", "-")
            home.fresh_job(job, {f"{n:03}": b"%d" % n for n in range(200)})
            with home.behaving(put=Behaviour(delay_s=SLOW_S)):
                begun = home.standin.counts["put"]
                run = cart.start(job)["id"]
                until(lambda begun=begun: home.standin.counts["put"] > begun, what="its writes")
                began = time.monotonic()
                ask(cart, run)
                until(lambda run=run: has_heard(cart.run(run)), SLOW_S, name)
                took = time.monotonic() - began
            what = f"a {name} with writes of {SLOW_S} s on their way, to {HEARD_S} s"
            add(what, took / HEARD_S, 1)


def has_heard(run: dict[str, Any]) -> bool:
    return run["state"] in ("paused", "ended")


def grown(root: Path, burst: int, files: int) -> None:
    with contextlib.ExitStack() as opened:
        growing = [
            opened.enter_context((root / f"{burst}-{n:04}").open("wb", buffering=0))
            for n in range(files)
        ]
        for _ in range(4):
            for file in growing:
                file.write(b"x" * 1000)
            threading.Event().wait(0.5)


# --- what is measured on


@contextlib.contextmanager
def started() -> Iterator[House]:
    with tempfile.TemporaryDirectory() as own, house(Path(own)) as home:
        yield home


def web_process(home: House) -> int:
    (pid,) = parts_of(home, "web")
    return pid


def cpu_of(pid: int) -> float:
    """Seconds, user and system, of a process."""
    fields = Path(f"/proc/{pid}/stat").read_text().rpartition(")")[2].split()
    return (int(fields[11]) + int(fields[12])) / os.sysconf("SC_CLK_TCK")


def asked(home: House, path: str, web: int) -> tuple[float, float]:
    took = []
    with httpx.Client(headers={"Authorization": f"Bearer {home.token}"}) as http:
        url = f"{home.url}/api/v1/{path}"
        http.get(url, timeout=120).raise_for_status()
        before = cpu_of(web)
        for _ in range(CALLS):
            began = time.monotonic()
            http.get(url, timeout=60).raise_for_status()
            took.append(time.monotonic() - began)
    return statistics.quantiles(took, n=20)[-1], (cpu_of(web) - before) / CALLS


def fill(home: House, jobs: int, runs: int, records: int) -> int:
    """So many jobs, ended runs of them, and a run that works and has so many records. Its number.

    Straight into the database: nothing of it is measured.
    """
    home.fresh_store("posts", {"a": b"1"})
    lines = [f"pine://posts/p{n}/,pine://office/b/{n}/,job-{n:03}" for n in range(jobs)]
    with home.client() as cart:
        cart.import_jobs("\n".join(["from,to,name", *lines]), form="csv", save=True)
        first = cart.start("job-000")["id"]
        until(lambda: cart.run(first)["state"] == "ended", what="the first run")
    columns = [row[1] for row in home.sql("pragma table_info(runs_run)") if row[1] != "id"]
    own = ("job", "outcome", "state", "queued_at", "started_at", "ended_at", "summed")
    copied = ", ".join(f'"{column}"' for column in columns if column not in own)
    insert = (
        f"insert into runs_run ({', '.join(own)}, {copied}) "
        f"select ?, ?, ?, ?, ?, ?, ?, {copied} from runs_run where id=?"
    )
    decision, reason, done, error = CLEAN
    group = {"decision": decision, "reason": reason, "done": done, "error": error, "proof": ""}
    now = datetime.now(UTC)
    with contextlib.closing(connected(home)) as db, db:
        for n in range(runs):
            begun = now - (runs - n) * PAST / runs
            at, ended = f"{begun:%F %T}", f"{begun + timedelta(seconds=40):%F %T}"
            outcome = "problems" if n % 9 == 0 else "clean"
            times = (at, at, ended, summed(group, 5))
            db.execute(insert, (f"job-{n % jobs:03}", outcome, "ended", *times, first))
        at = f"{now:%F %T}"
        values = ("job-000", "", "working", at, at, None, summed(group, records), first)
        working = db.execute(insert, values).lastrowid
        hold(home.state / "runs" / f"{working}.lock")  # before anybody sees it
        db.executemany(
            RECORD,
            ((working, b"d%03d/%06d.csv" % (n % 500, n)) for n in range(records)),
        )
    return int(working or 0)


def connected(home: House) -> Any:
    return sqlite3.connect(home.state / "pinecart.sqlite3", timeout=30)


def hold(lock: Path) -> None:
    """As its process would: else the worker takes the run for dead."""
    file = lock.open("a")
    fcntl.flock(file, fcntl.LOCK_EX)
    HELD.append(file)


HELD: list[Any] = []


def summed(group: dict[str, Any], count: int) -> str:
    more = {"cleared": False, "folder": False, "n": count, "b": 10 * count}
    return json.dumps([group | more])


@contextlib.contextmanager
def writing(home: House, run: int) -> Iterator[None]:
    """A run that tells of itself four times a second, as long as this."""
    over = threading.Event()

    def write() -> None:
        while not over.wait(0.25):
            tell(home, run)

    thread = threading.Thread(target=write)
    thread.start()
    try:
        yield
    finally:
        over.set()
        thread.join()


def tell(home: House, run: int) -> None:
    told = {"at": time.time(), "phases": [], "done": {"objects": 1, "bytes": 1}}
    text = "insert into runs_runevent(run_id, kind, payload) values (?, 'progress', ?)"
    home.sql(text, run, json.dumps(told))


def look_on(home: House, token: str, run: int, late: list[float], ended: threading.Event) -> None:
    headers = {"Authorization": f"Bearer {token}"}
    url = f"{home.url}/api/v1/runs/{run}/events"
    with httpx.stream("GET", url, headers=headers, timeout=60) as answer:
        for line in answer.iter_lines():
            if not line.startswith("data: "):
                continue
            told = json.loads(line.removeprefix("data: "))
            late.append(time.time() - told["at"] if "at" in told else 0.0)
    ended.set()
