"""Figures for machines, readiness, and what is shipped to run the service with."""

from __future__ import annotations

import json
import os
import re
import shutil
import signal
import subprocess
from pathlib import Path

import pytest
import yaml

from tests.whole.house import asked, house, parts_of, until

DEPLOY = Path("docs/deploy")


def figures(text):
    """name{labels} → value."""
    lines = [line for line in text.splitlines() if line and not line.startswith("#")]
    return {name: float(value) for name, _, value in (line.rpartition(" ") for line in lines)}


def under_way(found):
    states = ("queued", "working", "interrupted")
    return sum(found.get(f'pinecart_runs_open{{state="{state}"}}', 0) for state in states)


def test_figures_count_what_ran_and_go_on_counting_when_it_is_cleared(shared):
    with shared.client() as cart:
        until(lambda: not under_way(figures(cart.metrics())), what="other tests' runs to end")
        before = figures(cart.metrics())
        shared.fresh_job("figures", {"a": b"1234", "b": b"56"})
        run = shared.carried("figures")
        shared.carried("figures")
        after = figures(cart.metrics())

        def more(name):
            return after[name] - before.get(name, 0)

        assert more('pinecart_runs_total{outcome="clean"}') == 1
        assert more('pinecart_runs_total{outcome="nothing-to-do"}') == 1
        assert more("pinecart_files_carried_total") == 2
        assert more("pinecart_bytes_carried_total") == 6
        assert more('pinecart_run_seconds_bucket{le="+Inf",outcome="clean"}') == 1
        assert after['pinecart_runs_open{state="held"}'] >= 0
        shared.sql("DELETE FROM runs_recordrow WHERE run_id=?", run["id"])
        again = figures(cart.metrics())
        assert again["pinecart_files_carried_total"] == after["pinecart_files_carried_total"]
    refused = asked("GET", f"{shared.url}/metrics")
    assert refused.status_code == 401


def test_every_figure_that_the_example_alerts_ask_for_is_told(shared):
    shared.fresh_job("alerted", {"a": b"1"})
    shared.carried("alerted")
    with shared.client() as cart:
        names = {name.partition("{")[0] for name in figures(cart.metrics())}
        cart.try_store("office")
        names |= {name.partition("{")[0] for name in figures(cart.metrics())}
    rules = yaml.safe_load((DEPLOY / "alerts.yml").read_text())["groups"][0]["rules"]
    asked = {name for rule in rules for name in re.findall(r"pinecart_\w+", rule["expr"])}
    assert asked and asked <= names


def test_it_is_ready_only_while_all_its_processes_show_life(tmp_path):
    with house(tmp_path, "--log-format", "json") as home:
        ready = f"{home.url}/api/v1/health/ready"
        until(lambda: asked("GET", ready).status_code == 200, 30)
        clocks = parts_of(home, "clock")
        os.kill(clocks[0], signal.SIGSTOP)
        try:
            old = home.state / "alive" / "Clock"
            os.utime(old, (old.stat().st_atime, old.stat().st_mtime - 120))
            told = asked("GET", ready)
            assert (told.status_code, told.json()["quiet"]) == (503, ["clock"])
        finally:
            os.kill(clocks[0], signal.SIGCONT)
        until(lambda: asked("GET", ready).status_code == 200, 30)
        os.kill(clocks[0], signal.SIGKILL)
        until(lambda: "started again" in home.log(), 30)
        lines = [line for line in home.log().splitlines() if line.startswith("{")]
        assert all({"at", "level", "message"} <= json.loads(line).keys() for line in lines)


def test_the_unit_is_a_good_one(tmp_path):
    if not shutil.which("systemd-analyze"):
        pytest.skip("no systemd here")
    unit = tmp_path / "pinecart.service"
    text = (DEPLOY / "pinecart.service").read_text()
    unit.write_text(text.replace("User=pinecart\nGroup=pinecart\n", ""))
    words = ["systemd-analyze", "verify", "--man=no", str(unit)]
    told = subprocess.run(words, capture_output=True, text=True, check=False)
    mine = [line for line in told.stderr.splitlines() if "pinecart" in line]
    assert not mine, mine


def test_the_container_takes_what_is_there(shared):
    text = (DEPLOY / "Containerfile").read_text()
    assert Path("requirements/run.txt").exists() and "requirements/run.txt" in text
    options = re.search(r"ENTRYPOINT (\[.*\])", text).group(1)
    known = shared.run("serve", "--help").stdout
    assert all(word in known for word in json.loads(options) if word.startswith("--"))
