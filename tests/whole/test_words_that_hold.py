"""What is said is so: a job that is forgotten, a run that is still under way, a place however it is
written.
"""

from __future__ import annotations

import http.server
import os
import threading

import pytest

from pinecart.client import Client, Conflict, ServiceUnreachable, TooSlow
from pinecart.standins.bucket_behaviour import Behaviour
from tests.whole.house import until

SHEETS = {f"sheets/{n:02}.csv": b"%d" % n for n in range(6)}
MIRROR = {"intent": "mirror", "guards": {"removals_percent": 100}}


def test_a_job_of_a_forgotten_name_remembers_nothing(shared):
    root, job = shared.fresh_job("again", SHEETS, **MIRROR)
    first = shared.carried(job)
    with shared.client() as cart:
        definition = cart.job(job)["definition"]
        cart.drop_job(job)
        for n in range(2):
            (root / f"sheets/{n:02}.csv").unlink()
        cart.define_job(definition)
    run = shared.carried(job)
    assert (
        run["state"] == "held" and "never carried by this job" in run["held"]["lists"][0]["message"]
    )
    assert len([k for k in shared.standin.shelf.buckets[job] if k.startswith("in/")]) == 6
    assert shared.run("run", "decline", str(run["id"])).returncode == 0
    undone = shared.run(
        "run", "undo", str(first["id"]), "--yes"
    )  # the forgotten one's runs can still be undone
    assert "6 removed" in undone.stdout, undone.stdout + undone.stderr


def test_a_job_whose_run_is_under_way_is_not_forgotten(shared):
    with shared.long_run("busy-drop"), shared.client() as cart:
        with pytest.raises(Conflict, match="not over yet"):
            cart.drop_job("busy-drop")
        assert cart.job("busy-drop")["job"] == "busy-drop"


def test_an_audit_beside_a_run_says_so_or_comes_after_it(shared):
    _, job = shared.fresh_job("beside", {f"{n:03}": b"x" for n in range(200)})
    with shared.behaving(put=Behaviour(per_second=12)), shared.client() as cart:
        number = cart.start(job)["id"]
        until(lambda: shared.done_of(number) > 5)
        beside = shared.run("audit", "start", job)
        assert (
            beside.returncode == 1
            and f"▲ Run {number} of this job was under way meanwhile" in beside.stdout
        )
        waiting = cart.start_audit(job, wait=True)["id"]
        until(lambda: "Waits for run" in cart.audit(waiting)["message"])
        offered = shared.run("start", job, "--follow")
        assert offered.returncode == 1 and f"run {number}" in offered.stderr
        followed = shared.run("--json", "start", job, "--or-follow")
        assert followed.returncode == 0 and f'"id": {number}' in followed.stdout
        after = until(lambda: (told := cart.audit(waiting))["state"] == "ended" and told)
        assert (after["findings"], after["message"]) == (0, "")


def test_a_place_may_be_written_the_same_ways_everywhere(shared, tmp_path):
    root = shared.fresh_store("spelt", {"a b/one.csv": b"1", "a b/two.csv": b"2"})
    folder, quoted = f"{root}/a b", f"'{root}/a b'"
    assert [e["key"] for e in shared.json("browse", quoted)] == ["one.csv", "two.csv"]
    assert len(shared.json("browse", f'"{folder}"'.replace("/a b", "\\a b"))) == 2
    assert len(shared.json("browse", '"pine://spelt/a b/"')) == 2
    assert len(shared.json("browse", folder, "--beside", "'pine://spelt/a b'")) == 2
    (tmp_path / "three.csv").write_bytes(b"3")
    assert shared.run("upload", str(tmp_path / "three.csv"), quoted).returncode == 0
    assert (root / "a b/three.csv").read_bytes() == b"3"
    made = shared.run(
        "job", "define", "spelt", "--from", folder, "--to", "'pine://spelt/elsewhere'"
    )
    assert made.returncode == 0, made.stderr
    assert (
        shared.json("job", "show", "spelt")["definition"]["legs"][0]["from"] == "pine://spelt/a b/"
    )
    shared.carried("spelt")
    assert [p["key"] for p in shared.json("find", f"{folder}/one.csv")] == ["one.csv"]
    shown = shared.run("remove", quoted, "--take", "two.csv", "--preview")
    assert shown.returncode == 0 and "two.csv" in shown.stdout
    odd = os.fsdecode(os.fsencode(str(root)) + b"/caf\xe9")
    os.mkdir(odd)
    assert shared.run("browse", odd).returncode == 0


def test_long_names_go_last_where_nobody_looks_at_columns(shared):
    shared.fresh_store("long", {"n" * 200: b"1", "short": b"22"})
    lines = shared.run("browse", "pine://long/").stdout.splitlines()
    assert lines[0].split() == ["size", "changed", "(UTC)", "name"]
    assert all(len(line) < 60 for line in lines if "nnn" not in line) and lines[1].endswith(
        "n" * 200
    )


def test_every_run_tells_what_it_acted_on(shared):
    root, job = shared.fresh_job("acted", SHEETS, **MIRROR)
    shared.carried(job)
    for n in range(3):
        (root / f"sheets/{n:02}.csv").unlink()
    shared.carried(job)
    rows = shared.run("run", "list", "--job", job).stdout
    assert "3 removed" in rows and "6 copied · 6 B" in rows
    run = shared.carried(job)
    assert run["sentence"] == (
        "○ nothing to do: nothing new or changed; 0 removed, 3 unchanged; the far side holds "
        "3 files, 3 B, as intended"
    )


@pytest.mark.parametrize(
    ("changes", "said", "danger"),
    [
        ({}, "What is replaced is gone for good.", True),
        (
            {"set_aside": 9},
            "What is replaced is set aside for 9 days, and can be brought back.",
            False,
        ),
        (
            {"on_difference": "keep"},
            "A file that exists there and differs is kept as it is.",
            False,
        ),
        (
            {"intent": "mirror"},
            "Makes an exact copy: adds, replaces, and removes there what the source no longer has.",
            True,
        ),
    ],
)
def test_a_definition_says_what_is_lost_and_says_it_once(shared, changes, said, danger):
    place = {"legs": [{"from": "pine://office/said-a/", "to": "pine://office/said-b/"}]}
    with shared.client() as cart:
        told = cart.check_job({"job": "x", **place, **changes})
    assert told["sentences"].count(said) == 1 and (said in told["dangers"]) == danger
    assert not any("Nothing is ever deleted" in s for s in told["sentences"])


def test_a_token_in_the_environment_counts_before_one_that_is_found(shared):
    done = shared.run("job", "list", PINECART_TOKEN="pct_none")
    assert done.returncode == 5 and "code: token.unknown" in done.stderr


def test_a_service_that_is_slow_is_not_one_that_is_away():
    release = threading.Event()

    class Slow(http.server.BaseHTTPRequestHandler):
        def do_GET(self):
            release.wait(10)

        def log_message(self, *args): ...

    server = http.server.ThreadingHTTPServer(("127.0.0.1", 0), Slow)
    threading.Thread(target=server.serve_forever, args=(0.05,), daemon=True).start()
    try:
        with (
            Client(f"http://127.0.0.1:{server.server_port}", "t", timeout_s=0.3) as cart,
            pytest.raises(TooSlow, match="may still be done"),
        ):
            cart.jobs()
    finally:
        release.set()
        server.shutdown()
        server.server_close()
    with (
        Client(f"http://127.0.0.1:{server.server_port}", "t", timeout_s=3) as cart,
        pytest.raises(ServiceUnreachable, match="Is it running"),
    ):
        cart.jobs()
