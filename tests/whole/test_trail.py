"""The trail and proofs as their users meet them: verified, tampered with, exported, checked without
the service.
"""

from __future__ import annotations

import json
import re
import subprocess
import sys
from pathlib import Path

import pytest

from tests.whole.house import house


@pytest.fixture(scope="module")
def trailed(tmp_path_factory):
    """A house of its own, whose database is tampered with."""
    with house(tmp_path_factory.mktemp("trailed")) as made:
        made.fresh_job("trailed", {"a.csv": b"1", "b.csv": b"22"})
        made.carried("trailed")
        yield made


def faults(home, *words):
    told = home.run("trail", "verify", *words, "--json")
    found = json.loads(told.stdout)
    assert found["is_whole"] == (told.returncode == 0) == (not found["faults"])
    return [fault["number"] for fault in found["faults"]]


def test_a_line_tells_who_from_where_and_what_was_before(trailed):
    with trailed.client() as cart:
        cart.change_job("trailed", cart.job("trailed")["definition"] | {"why": "counts"})
        line = cart.trail(limit=1)[0]
    assert (line["who"], line["address"], line["action"]) == ("admin", "127.0.0.1", "job.changed")
    assert line["facts"]["after"]["why"] == "counts"


@pytest.mark.parametrize(
    ("tamper", "mend"),
    [
        ("SET who='nobody' WHERE id=3", "SET who={who} WHERE id=3"),
        ("SET id=9003 WHERE id=3", "SET id=3 WHERE id=9003"),
    ],
    ids=["altered", "taken away"],
)
def test_a_line_that_was_tampered_with_is_found(trailed, tamper, mend):
    assert faults(trailed) == []
    ((who,),) = trailed.sql("SELECT who FROM trail_line WHERE id=3")
    trailed.sql(f"UPDATE trail_line {tamper}")
    assert 3 in faults(trailed) or 4 in faults(trailed)
    mended = mend.format(who=f"'{who}'")
    trailed.sql(f"UPDATE trail_line {mended}")
    assert faults(trailed) == []


def test_a_head_kept_elsewhere_tells_that_the_end_was_cut(trailed):
    with trailed.client() as cart:
        found = cart.verify_trail()
    head = f"{found['lines']}:{found['digest']}"
    assert faults(trailed, "--head", head) == []
    lines = trailed.sql("SELECT * FROM trail_line WHERE id=?", found["lines"])
    trailed.sql("DELETE FROM trail_line WHERE id>=?", found["lines"])
    assert faults(trailed) == []
    assert faults(trailed, "--head", head)
    trailed.sql(f"INSERT INTO trail_line VALUES ({','.join('?' * len(lines[0]))})", *lines[0])
    assert faults(trailed, "--head", head) == []


def script_of(name):
    """A script as the docs print it."""
    text = Path("docs/operations.md").read_text()
    return re.search(rf"```python\n(# {name}.*?)```", text, re.S).group(1)


def test_an_export_is_verified_by_the_script_of_the_docs_without_the_service(trailed, tmp_path):
    assert trailed.run("trail", "export", "-o", str(tmp_path / "trail.jsonl")).returncode == 0
    keys = trailed.json("trail", "key")
    (tmp_path / "verify.py").write_text(script_of("trail"))

    def verified():
        words = [sys.executable, "verify.py", "trail.jsonl", keys["chain_key"], keys["public_key"]]
        return subprocess.run(words, cwd=tmp_path, check=False, capture_output=True).returncode

    assert verified() == 0
    lines = (tmp_path / "trail.jsonl").read_bytes().splitlines(keepends=True)
    for tampered in (lines[:2] + lines[3:], lines[:-2] + lines[-1:], lines[:-1]):
        (tmp_path / "trail.jsonl").write_bytes(b"".join(tampered))
        assert verified() != 0


def test_a_proof_is_checked_with_the_public_key_alone(trailed, tmp_path):
    with trailed.client() as cart:
        run = cart.runs(job="trailed")[0]
    file = tmp_path / "run.proof"
    assert trailed.run("proof", "make", str(run["id"]), "-o", str(file)).returncode == 0
    head, *objects, signature = map(json.loads, file.read_bytes().splitlines())
    assert head["run"]["id"] == run["id"] and "signature" in signature["signed"]
    assert [(o["key"], o["bytes"], o["proof"]) for o in objects] == [
        ("a.csv", 1, "server-verified"),
        ("b.csv", 2, "server-verified"),
    ]
    assert all(o["checksum"] for o in objects)
    assert "Whole: 3 lines" in trailed.run("proof", "check", str(file)).stdout
    (tmp_path / "check.py").write_text(script_of("proof"))
    words = [sys.executable, "check.py", "run.proof", trailed.json("proof", "key")["public_key"]]
    assert subprocess.run(words, cwd=tmp_path, check=False).returncode == 0
    file.write_bytes(file.read_bytes().replace(b"b.csv", b"c.csv"))
    told = trailed.run("proof", "check", str(file))
    assert told.returncode == 1 and "It was changed" in told.stdout
    assert subprocess.run(words, cwd=tmp_path, check=False).returncode != 0
