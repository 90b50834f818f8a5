"""The command line as its users meet it: help, streams, exit codes, words."""

from __future__ import annotations

import json
import os
import signal
import subprocess
import sys

import click
import pytest

from pinecart.cli.main import COMMANDS, cli
from pinecart.standins.bucket_behaviour import Behaviour
from tests.standin import SECRET
from tests.whole.house import PINECART, until


def commands(group=cli, path=()):
    """Every command there is, as a tuple of words."""
    ctx = click.Context(group)
    for name in group.list_commands(ctx):
        found = group.get_command(ctx, name)
        yield (*path, name), found
        if isinstance(found, click.Group):
            yield from commands(found, (*path, name))


EVERY = list(commands())


@pytest.mark.parametrize(
    ("words", "command"), EVERY, ids=lambda v: " ".join(v) if isinstance(v, tuple) else ""
)
def test_every_command_has_help_with_an_example_and_every_option_too(words, command):
    assert command.help and "\b" in command.help and f"pinecart {words[0]}" in command.help
    for option in command.params:
        if isinstance(option, click.Option) and not option.hidden:
            assert option.help, f"{words}: {option.name}"


@pytest.mark.parametrize("words", [("run", "list"), ("start",)])
def test_the_four_ways_to_ask_for_help_give_the_same(shared, words):
    forms = [(*words, "--help"), (*words, "-h"), (*words, "help"), ("help", *words)]
    told = {shared.run(*form).stdout for form in forms}
    assert len(told) == 1 and "Usage: pinecart" in told.pop()


def test_help_loads_neither_the_service_nor_the_network():
    program = (
        "import sys\nfrom pinecart.cli.main import main\nsys.argv = ['pinecart', 'start', "
        "'--help']\ntry: main()\nexcept SystemExit: pass\nprint([m for m in ('django', 'httpx', "
        "'pinecart.service') if m in sys.modules])"
    )
    assert (
        subprocess.check_output([sys.executable, "-c", program], text=True).splitlines()[-1] == "[]"
    )


def test_the_commands_are_those_promised():
    promised = "login store bucket browse job preview start run schedule audit demo serve"
    assert set(promised.split()) <= set(COMMANDS)


@pytest.mark.parametrize(
    ("words", "code", "said"),
    [
        (["strat", "x"], 2, "Did you mean 'start'"),
        (["run", "lsit"], 2, "Did you mean 'list'"),
        (["start"], 2, "Missing argument"),
        (["start", "no-such-job"], 1, "code: job.unknown"),
        (["store", "show", "offce"], 1, "Did you mean 'office'"),
        (["run", "show", "99999"], 1, "code: run.unknown"),
        (["browse", "pine://office/no-such-bucket/"], 1, "code: store.no-bucket"),
    ],
)
def test_what_goes_wrong_is_said_on_stderr_with_its_code(shared, words, code, said):
    done = shared.run(*words)
    assert (done.returncode, done.stdout) == (code, "") and said in done.stderr


def test_out_of_reach_and_not_allowed_have_codes_of_their_own(shared):
    assert shared.run("job", "list", PINECART_URL="http://127.0.0.1:1").returncode == 4
    done = shared.run("job", "list", PINECART_URL=shared.url, PINECART_TOKEN="wrong")
    assert done.returncode == 5 and "code: token.unknown" in done.stderr


def test_signing_in_keeps_a_token_for_later(shared, tmp_path):
    with shared.client() as cart:
        cart.add_person("wren", "a long password", [{"right": "look", "label": ""}])
    env = {"PINECART_DATA": "", "XDG_CONFIG_HOME": str(tmp_path), "HOME": str(tmp_path)}
    assert shared.run("job", "list", **env).returncode == 2
    done = shared.run(
        "login",
        shared.url,
        "--name",
        "wren",
        "--password-file",
        "-",
        stdin="a long password\n",
        **env,
    )
    assert done.returncode == 0 and "Signed in" in done.stderr
    assert shared.run("job", "list", **env).returncode == 0
    assert os.stat(tmp_path / "pinecart" / "login.json").st_mode & 0o777 == 0o600
    assert (
        shared.run(
            "login", shared.url, "--name", "wren", "--password-file", "-", stdin="no\n", **env
        ).returncode
        == 5
    )


def test_a_job_from_a_file_and_its_change_by_options(shared, tmp_path):
    shared.fresh_store("filed", {"a": b"1"})
    file = tmp_path / "filed.yaml"
    file.write_text(
        "job: filed\nintent: top-up\nlegs:\n  - from: pine://filed/\n    to: "
        "pine://office/filed/\n    leave-out: ['*.tmp']\nschedule: "
        "{cron: '0 6 * * *', zone: UTC}\n"
    )
    assert (
        "Nothing that exists there is touched"
        in shared.run("job", "define", str(file), "--check").stdout
    )
    assert shared.run("job", "define", str(file)).returncode == 0
    assert (
        shared.run("job", "change", "filed", "--intent", "renew", "--no-schedule").returncode == 0
    )
    told = shared.json("job", "show", "filed")
    assert (told["version"], told["definition"]["intent"], told["next_due"]) == (2, "renew", None)
    assert told["definition"]["legs"][0]["leave_out"] == ["*.tmp"]
    again = tmp_path / "again.yaml"
    again.write_text(shared.run("job", "show", "filed", "--yaml").stdout)
    assert shared.run("job", "change", "filed", str(again)).returncode == 0
    assert shared.json("job", "show", "filed")["definition"] == told["definition"]
    assert shared.run("job", "drop", "filed", "--yes").returncode == 0


def test_a_store_is_added_tried_and_dropped_with_its_secret_read_from_a_file(shared, tmp_path):
    (tmp_path / "secret").write_text(SECRET + "\n")
    words = [
        "store",
        "add",
        "second",
        "--kind",
        "s3",
        "--endpoint",
        shared.endpoint,
        "--key-id",
        "LARKFELLKEY",
    ]
    assert (
        shared.run(*words, "--secret-file", str(tmp_path / "secret"), "--try-first").returncode == 0
    )
    assert "Made bucket" in shared.run("bucket", "add", "pine://second/from-cli").stderr
    assert "was there already" in shared.run("bucket", "add", "pine://second/from-cli").stderr
    tried = shared.run("store", "try", "second", "--write-to", "from-cli")
    assert tried.returncode == 0 and "✓ delete" in tried.stdout and "CRC-64/NVME" in tried.stdout
    assert "is empty" in shared.run("browse", "pine://second/from-cli/").stderr
    refused = shared.run("store", "change", "second", "--secret-file", "-", stdin="wrong\n")
    assert refused.returncode == 1 and "The old one stays" in refused.stderr
    assert shared.run("store", "try", "second").returncode == 0
    assert (
        shared.run(
            "store", "change", "second", "--untried", "--secret-file", "-", stdin="wrong\n"
        ).returncode
        == 0
    )
    assert shared.run("store", "try", "second").returncode == 1
    assert shared.run("store", "drop", "second", stdin="n\n").returncode == 1
    assert shared.run("store", "drop", "second", "--yes").returncode == 0


def test_exit_codes_of_a_followed_run_and_its_json(shared):
    shared.fresh_job("followed", {"a": b"1", "b": b"2"})
    with shared.behaving(put=Behaviour(fail="AccessDenied", match="/b")):
        done = shared.run("--json", "start", "followed", "--follow", "--each")
    run = json.loads(done.stdout)
    assert (done.returncode, run["outcome"], run["problems"]) == (1, "problems", 1)
    assert {"id", "job", "state", "outcome", "totals", "problems"} <= run.keys()
    assert run["totals"]["copy"] == {"objects": 1, "bytes": 1} and "store.refused" in done.stderr
    assert shared.run("start", "followed", "--follow").returncode == 0
    assert isinstance(shared.json("run", "list", "--job", "followed"), list)


def heed_interrupts():
    """What runs the tests may ignore them, as a shell's background does; and that is inherited."""
    signal.signal(signal.SIGINT, signal.SIG_DFL)


def test_interrupting_the_watcher_does_not_stop_the_run(shared):
    shared.fresh_job("unwatched", {f"{n}": b"x" for n in range(120)})
    with shared.behaving(put=Behaviour(per_second=25)):
        watcher = subprocess.Popen(
            [*PINECART, "start", "unwatched", "--follow"],
            env=shared.env,
            stderr=subprocess.PIPE,
            text=True,
            preexec_fn=heed_interrupts,  # noqa: PLW1509 - nothing but one call before the exec
        )
        until(lambda: shared.standin.shelf.buckets["unwatched"], what="the first object")
        watcher.send_signal(signal.SIGINT)
        said = watcher.communicate(timeout=120)[1]
    assert watcher.returncode == 130 and "goes on" in said and "pinecart run stop" in said
    with shared.client() as cart:
        (run,) = cart.runs(job="unwatched")
        for _ in cart.follow(run["id"]):
            pass
        assert cart.run(run["id"])["outcome"] == "clean"


def test_alone_it_says_whether_everything_is_well(shared):
    done = shared.run()
    assert done.returncode == 0 and "job" in done.stdout.splitlines()[0]
    assert "sentence" in shared.json()


def test_no_colour_and_no_drawing_where_it_is_no_terminal(shared):
    for words in (
        ["run", "list"],
        ["job", "list"],
        ["store", "list"],
        ["schedule", "list"],
        ["trail", "list"],
        ["person", "list"],
        ["token", "list"],
    ):
        assert "\x1b" not in shared.run(*words).stdout


def test_completion_offers_commands(shared):
    done = shared.run(_PINECART_COMPLETE="bash_complete", COMP_WORDS="pinecart st", COMP_CWORD="1")
    assert "plain,start" in done.stdout and "plain,store" in done.stdout


def test_a_store_from_what_was_pasted(shared):
    block = (
        f"access key id = LARKFELLKEY\nsecret = '{SECRET}'\nendpoint = {shared.endpoint}/larkfell\n"
    )
    done = shared.run("store", "add", "pasted", "--pasted-file", "-", stdin=block)
    assert (
        done.returncode == 0
        and "Quotes round secret were taken off" in done.stderr
        and SECRET not in done.stderr
    )
    told = shared.json("store", "show", "pasted")
    assert (told["kind"], told["root"]) == ("s3", "larkfell")
    done = shared.run("store", "add", "nothing", "--pasted-file", "-", stdin="good day")
    assert done.returncode == 2 and "Choose from" in done.stderr
