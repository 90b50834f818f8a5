"""The service as a thing that runs: its processes, its state folder, the wheel, the demo."""

from __future__ import annotations

import contextlib
import json
import os
import re
import signal
import socket
import subprocess
import sys
import time
import zipfile
from pathlib import Path

import pytest

from pinecart.client import Client
from pinecart.core.entries import Row
from pinecart.service.config.state import network_file_system
from tests.whole.house import PINECART, asked, free_port, house, parts_of, pids_of, until

ROOT = Path(__file__).parents[2]


def test_it_ends_at_once_and_leaves_no_process_also_with_a_run_and_a_stream(tmp_path):
    from pinecart.standins.bucket_behaviour import Behaviour

    with house(tmp_path) as home:
        home.fresh_job("slow", {"a": b"1"})
        home.standin.behaviour["put"] = Behaviour(delay_s=90)
        with home.client() as cart:
            run = cart.start("slow")
            stream = cart.follow(run["id"])
            next(stream)
        below = until(lambda: len(p := pids_of(home.process.pid)) >= 5 and p, what="all processes")
        assert home.end() < 30, "it waited for what is slow"
        until(
            lambda: not [p for p in below if Path(f"/proc/{p}").exists()],
            what="its processes to be gone",
        )


def test_killed_outright_it_leaves_no_process_either_and_starts_again(tmp_path):
    with house(tmp_path) as home:
        below = until(lambda: len(p := pids_of(home.process.pid)) >= 4 and p, what="all processes")
        os.kill(home.process.pid, signal.SIGKILL)
        home.process.wait()
        until(
            lambda: not [p for p in below if Path(f"/proc/{p}").exists()],
            20,
            "its processes to be gone",
        )
        home.start()


def test_a_process_that_dies_is_started_again(tmp_path):
    with house(tmp_path) as home:
        (clock,) = parts_of(home, "clock")
        os.kill(clock, signal.SIGKILL)
        until(lambda: "the clock has ended; it is started again" in home.log(), what="its words")
        until(lambda: parts_of(home, "clock") not in ([], [clock]), what="the new clock")


def test_where_processes_come_from_may_die_as_well(tmp_path):
    """Its nurseries are killed: what is there goes on, and a part and a run begin all the same."""
    with house(tmp_path) as home:
        nurseries = until(lambda: len(p := parts_of(home, "nursery")) == 2 and p, what="both")
        (notifier,) = parts_of(home, "notifier")
        for pid in [*nurseries, notifier]:
            os.kill(pid, signal.SIGKILL)
        _, job = home.fresh_job("anew", {"a": b"1"})
        assert home.carried(job)["outcome"] == "clean"
        until(lambda: parts_of(home, "notifier") not in ([], [notifier]), what="the new notifier")
        assert home.log().count("begun by a new process of ours") == 2


def test_one_service_on_one_folder_and_none_on_a_newer_or_foreign_one(tmp_path):
    with house(tmp_path) as home:
        command = [*PINECART, "serve", "--data", str(home.state), "--port", str(free_port())]
        second = subprocess.run(
            command, capture_output=True, text=True, env=home.env, timeout=120, check=False
        )
        assert second.returncode == 4 and "Another Pine Cart service" in second.stderr
        assert (
            os.stat(home.state).st_mode & 0o777 == 0o700
            and os.stat(home.state / "token").st_mode & 0o777 == 0o600
        )
        home.end()
        ours = (home.state / "format").read_text()
        (home.state / "format").write_text("99\n")
        newer = subprocess.run(
            command, capture_output=True, text=True, env=home.env, timeout=120, check=False
        )
        assert newer.returncode == 4 and "newer Pine Cart" in newer.stderr
        (home.state / "format").write_text(ours)
        home.sql(
            "INSERT INTO django_migrations (app, name, applied) VALUES ('runs', "
            "'9999_later', '2026-01-01')"
        )
        newer = subprocess.run(
            command, capture_output=True, text=True, env=home.env, timeout=120, check=False
        )
        assert (
            newer.returncode == 4 and "newer Pine Cart (it knows runs 9999_later)" in newer.stderr
        )
        command[5] = str(home.files.parent)
        foreign = subprocess.run(
            command, capture_output=True, text=True, env=home.env, timeout=120, check=False
        )
        assert foreign.returncode == 2 and "other files" in foreign.stderr


@pytest.mark.parametrize(
    ("folder", "kind"),
    [
        ("/srv/pinecart", ""),
        ("/mnt/share/state", "nfs4 at /mnt/share"),
        ("/mnt/share-2/state", ""),
        ("/mnt/share/disk/state", ""),
        ("/mnt/the office/state", "cifs at /mnt/the office"),
    ],
)
def test_no_state_folder_on_a_network_file_system(folder, kind):
    """proc(5): each line has the mount point as its fifth field, octal escapes in it, and the kind
    after the hyphen.
    """
    mounts = """21 1 8:1 / / rw,relatime shared:1 - ext4 /dev/root rw
40 21 0:50 / /mnt/share rw shared:9 master:2 - nfs4 filer:/share rw
41 40 8:2 / /mnt/share/disk rw - xfs /dev/sdb rw
42 21 0:51 / /mnt/the\\040office rw - cifs //office/share rw
"""
    assert network_file_system(Path(folder), mounts) == kind


def test_a_taken_port_is_said(tmp_path):
    with house(tmp_path) as home:
        command = [*PINECART, "serve", "--data", str(tmp_path / "other"), "--port", str(home.port)]
        done = subprocess.run(
            command, capture_output=True, text=True, env=home.env, timeout=60, check=False
        )
        assert done.returncode == 4 and "Is the port taken?" in done.stderr


def test_the_database_is_set_up_to_lose_nothing(shared):
    assert (
        shared.sql("PRAGMA journal_mode")[0][0] == "wal"
        and shared.sql("PRAGMA auto_vacuum")[0][0] == 2
    )
    assert (shared.state / "format").read_text().startswith("4 ")


def test_records_of_the_version_before_are_taken_over(tmp_path):
    """The ledger as it was kept before: seven columns, and fingerprints of decimal numbers."""
    with house(tmp_path) as home:
        home.fresh_store("there", {"kept/by/hand": b""})
        here = home.fresh_store("here", {f"{n:02}": bytes(n) for n in range(40)})
        (here / "new").write_bytes(b"read within two seconds of its change")
        os.utime(here / "new", (time.time() + 60,) * 2)  # whenever that is
        with home.client() as cart:
            cart.define_job(
                {"job": "plain", "legs": [{"from": "pine://here/", "to": "pine://there/"}]}
            )
        assert home.carried("plain")["totals"]["copy"]["objects"] == 41
        (here / "01").write_bytes(b"changed since")
        home.end()
        rows = [
            Row.read(row)
            for row in home.sql("SELECT key, source, there, state FROM runs_ledgerrow ORDER BY key")
        ]
        assert [row.key for row in rows if row.racy] == [b"new"]
        home.sql("DROP TABLE runs_ledgerrow")
        home.sql(
            """CREATE TABLE runs_ledgerrow (scope_id bigint, key BLOB, source varchar(120),
            there varchar(120), crc varchar(12),
            racy bool, cleared bool, run bigint, PRIMARY KEY (scope_id, key)) WITHOUT ROWID"""
        )
        for row in rows:
            old = [
                ".".join(str(int(text[i : i + 16], 16)) for i in range(0, 64, 16))
                for text in (row.source, row.there)
            ]
            home.sql(
                "INSERT INTO runs_ledgerrow VALUES (1, ?, ?, ?, ?, ?, ?, ?)",
                row.key,
                *old,
                *row[3:],
            )
        for table, column in (
            ("scope", "dropped_at"),
            ("run", "waits"),
            ("recordrow", "seen"),
            ("uploadrow", "clear_at"),
            ("instance", "folder"),
            ("instance", "sealed"),
        ):
            home.sql(f"ALTER TABLE runs_{table} DROP COLUMN {column}")
        for table in ("delivery", "happeningrow", "noticerule", "mailserver", "seen"):
            home.sql(f"DROP TABLE notices_{table}")
        home.sql("DROP TABLE runs_runtally")
        home.sql(
            "DELETE FROM django_migrations WHERE app IN ('ledger', 'aside', 'notices') "
            "OR (app = 'runs' AND name >= '0009')"
        )
        (home.state / "format").write_text("1\n")
        home.start()
        assert [
            Row.read(row)
            for row in home.sql("SELECT key, source, there, state FROM runs_ledgerrow ORDER BY key")
        ] == rows
        assert (home.state / "before-migration.sqlite3").exists() and (
            home.state / "format"
        ).read_text().startswith("4 ")
        totals = {
            d: t["objects"] for d, t in home.carried("plain")["totals"].items() if t["objects"]
        }
        assert totals == {"replace": 1, "leave": 41}  # one lay there before


def test_the_console_is_served_with_its_pages_and_guarded(shared):
    for path in ("/", "/jobs", "/runs/5"):
        page = asked("GET", shared.url + path)
        assert (
            page.status_code == 200
            and '<div id="root">' in page.text
            and page.headers["x-frame-options"] == "DENY"
        )
    assert asked("GET", f"{shared.url}/favicon.svg").headers["content-type"] == "image/svg+xml"
    asset = next(
        p
        for p in (ROOT / "src/pinecart/service/console_built/assets").iterdir()
        if p.suffix == ".js"
    )
    assert "immutable" in asked("GET", f"{shared.url}/assets/{asset.name}").headers["cache-control"]


def test_a_wheel_holds_the_console_and_the_command(tmp_path):
    subprocess.run(
        [
            sys.executable,
            "-m",
            "build",
            "--wheel",
            "--no-isolation",
            "-o",
            str(tmp_path),
            str(ROOT),
        ],
        check=True,
        capture_output=True,
    )
    (wheel,) = tmp_path.glob("*.whl")
    names = zipfile.ZipFile(wheel).namelist()
    assert "pinecart/service/console_built/index.html" in names and any(
        n.endswith("runs/migrations/0001_initial.py") for n in names
    )
    assert "pinecart/service/runs/templates/runs/report_head.html" in names
    assert any(n.endswith("entry_points.txt") for n in names) and not any(
        n.startswith("tests") for n in names
    )


DEMO = [*PINECART, "demo", "--at-once"]


def free_row_of_ports(length: int) -> int:
    """The first of as many, below those that are given to whoever asks for any port."""
    for first in range(21_000 + os.getpid() % 10_000, 32_700, length):
        with contextlib.ExitStack() as held, contextlib.suppress(OSError):
            for port in range(first, first + length):
                held.enter_context(socket.socket()).bind(("127.0.0.1", port))
            return first
    raise AssertionError(f"no {length} free ports in a row")


@pytest.fixture
def demo(tmp_path):
    """The demo, not slowed, once its jobs have run."""
    data, port = tmp_path / "state", free_row_of_ports(6)
    log = tmp_path / "log"
    with log.open("w") as out:
        command = [*DEMO, "--data", str(data), "--port", str(port)]
        process = subprocess.Popen(command, stdout=out, stderr=out)
        try:
            told = until(lambda: re.search("Next: .*|.* not be set up.*", log.read_text()), 150)
            assert told[0].startswith("Next: "), log.read_text()
            yield data, port, log
        finally:
            process.terminate()
            process.wait(60)


def test_the_demo_says_which_of_its_ports_is_taken(tmp_path):
    port = free_row_of_ports(6)
    with socket.create_server(("127.0.0.1", port + 4)):
        command = [*DEMO, "--data", str(tmp_path / "state"), "--port", str(port)]
        told = subprocess.run(command, capture_output=True, text=True, timeout=120, check=False)
    assert told.returncode == 4
    assert f"127.0.0.1:{port + 4} can't be listened at" in told.stderr
    assert "Traceback" not in told.stderr


def test_the_demo_runs_its_jobs_and_what_arrives_is_carried(demo):
    data, port, log = demo
    with Client(f"http://127.0.0.1:{port}", (data / "token").read_text()) as cart:
        ended = {r["job"]: r for r in reversed(cart.runs())}
        assert {j: r["outcome"] or r["state"] for j, r in ended.items()} == {
            "dawn-recordings": "clean",
            "partner-copy": "clean",
            "weekly-counts": "clean",
            "ridge-mirror": "held",
            "field-notes": "problems",
            "letters": "clean",
            "museum-sheets": "clean",
            "campus-pictures": "clean",
        }
        first = ended["dawn-recordings"]["totals"]["copy"]
        assert 390 <= first["objects"] <= 410 and 50e6 < first["bytes"] < 70e6
        posts = data.with_name("state-files") / "posts"
        files = [p for p in posts.rglob("*") if p.is_file()]
        assert first == {"objects": len(files), "bytes": sum(p.stat().st_size for p in files)}
        assert max(len(p.name) for p in files) == 200 and any(p.stat().st_size == 0 for p in files)
        env = os.environ | {"PINECART_DATA": str(data)}
        arrived = subprocess.run(
            [*PINECART, "--json", "demo", "arrive"],
            capture_output=True,
            text=True,
            env=env,
            check=True,
        )
        told = json.loads(arrived.stdout)
        run = cart.start("dawn-recordings")
        list(cart.follow(run["id"]))
        objects = {o["key"]: o["reason"] for o in cart.objects(run["id"])}
    assert (
        objects == dict.fromkeys(told["arrived"], "new") | dict.fromkeys(told["changed"], "changed")
        and len(objects) == 4
    )
    assert "Sign in as admin with the password" in log.read_text()
