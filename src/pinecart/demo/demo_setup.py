"""The demo: a service on a state folder of its own, two stand-in stores beside it, the survey's
stores and jobs in it.
"""

from __future__ import annotations

import json
import os
import pwd
import secrets
import socket
import sys
import time
from collections.abc import Callable
from pathlib import Path

import httpx

from pinecart.client import Client, ClientError
from pinecart.demo import campus, letters, mishaps, museum
from pinecart.demo.survey import arrive, make_survey
from pinecart.json_object import JsonObject
from pinecart.service.config.state import Options, StateFolder, write_whole
from pinecart.service.supervisor import Welcome, serve

BUCKET = "larkfell"
COPY_BUCKET = "larkfell-copy"
FIRST_RUN_PER_SECOND = 10
# Ports, counted from the service's: the office's and the partner's are the first two.
MUSEUM = 3
CAMPUS = 4  # and the next
PORTS = 5
STARTED_WITHIN_S = 30.0
JOBS: list[JsonObject] = [
    {
        "job": "dawn-recordings",
        "title": "Dawn recordings to the office",
        "labels": ["survey"],
        "intent": "renew",
        "why": "The posts' disks are small and outdoors: by breakfast the office has everything.",
        "legs": [{"from": "pine://posts/", "to": f"pine://office/{BUCKET}/dawn/"}],
        "schedule": {"cron": "30 5 * * *", "zone": "Europe/London"},
    },
    {
        "job": "partner-copy",
        "title": "A second copy at the partner",
        "labels": ["survey", "partner"],
        "intent": "mirror",
        "why": "Agreed with the partner: one exact copy in another house.",
        "legs": [{"from": f"pine://office/{BUCKET}/dawn/", "to": f"pine://partner/{COPY_BUCKET}/"}],
    },
    {
        "job": "weekly-counts",
        "title": "Count sheets for the analysts",
        "labels": ["analysts"],
        "intent": "renew",
        "why": "The analysts work from a folder.",
        "legs": [
            {"from": f"pine://office/{BUCKET}/dawn/", "to": "pine://counts/", "take": ["sheets/**"]}
        ],
        "schedule": {"cron": "0 7 * * 1", "zone": "Europe/London"},
    },
]


def files_beside(state: Path) -> Path:
    """The demo's files lie beside its state folder: no store may lie in that."""
    return state.with_name(state.name + "-files")


def play(data: Path, port: int, *, unhurried: bool, say: Callable[[str], None]) -> None:
    """Run the demo until it is told to end. What it made is kept between starts."""
    files = files_beside(data)
    if not (files / "posts").exists():
        make_survey(files / "posts.new")
        (files / "posts.new").rename(files / "posts")
    (files / "counts").mkdir(exist_ok=True)
    if not (files / mishaps.STORE).exists():
        mishaps.make_hut(files / mishaps.STORE)
    if not (files / letters.STORE).exists():
        letters.make_box(files / letters.STORE)
    configs = [_standin(files, name, port + i) for i, name in enumerate(("office", "partner"), 1)]
    options = Options(
        port=port,
        folders=(str(files),),
        allowed=("127.0.0.1/32",),
        demo="pinecart.demo.demo_setup:arrive_now",
        batch_rows=1000,
    )

    def ready(welcome: Welcome | None) -> None:
        file = files / "password"
        if welcome:
            file.touch(mode=0o600)
            file.write_text(welcome.password)
        password = file.read_text()
        say(f"Pine Cart's demo is at {options.url}")
        say(f"Sign in as admin with the password {password} (made up, for this demo only).")
        say(f"The command line finds it with: export PINECART_DATA={data}")
        try:
            _await_listening(heard_at)
            token = _token(StateFolder(data), options.url, password)
            with Client(options.url, token) as client:
                _set_up(client, configs, files, unhurried=unhurried, say=say)
                _museum(client, files, port + MUSEUM, say=say)
                _campus(client, port + CAMPUS, say=say)
                say(NEXT)
        except ClientError as exc:
            say(f"The demo could not be set up: {exc.message} ({exc.code})")

    played = [*configs, campus.made(files, port + CAMPUS)]
    extra = [[sys.executable, "-m", "pinecart.standins", str(config)] for config in played]
    heard_at = [port + 1, port + 2, port + CAMPUS, port + CAMPUS + 1]
    if museum.is_there():
        extra.append(museum.made(files, port + MUSEUM))
        heard_at.append(port + MUSEUM)
    ports = range(port + 1, port + 1 + PORTS)
    serve(StateFolder(data), options, extra=extra, ports=ports, ready=ready)


def _await_listening(ports: list[int]) -> None:
    """The stores beside the service begin with it, and may take longer than it does. One that
    doesn't come is told by whoever needs it.
    """
    until = time.monotonic() + STARTED_WITHIN_S
    for port in ports:
        while time.monotonic() < until:
            try:
                socket.create_connection(("127.0.0.1", port), 1).close()
                break
            except OSError:
                time.sleep(0.05)


def _token(state: StateFolder, url: str, password: str) -> str:
    """Kept beside the state, as only a demo may: it is made up, and for this machine alone."""
    file = state.root / "token"
    if not file.exists():
        with Client(url) as client:
            name = "the demo's command line"
            token = client.token_for("admin", password, token_name=name)
            write_whole(file, token)
    return file.read_text()


def arrive_now() -> dict[str, list[str]]:
    """The demo's button: called inside the service."""
    files = files_beside(StateFolder.from_environment().root)
    letters.drop(files / letters.STORE)  # which starts its job by itself
    return arrive(files / "posts")


def _account(*, may_write: bool) -> JsonObject:
    return {"secret": secrets.token_urlsafe(24), "may_write": may_write}


def _standin(files: Path, name: str, port: int) -> Path:
    """The stand-in's configuration, with made-up keys that are kept."""
    config = files / f"{name}.json"
    if config.exists():
        told = json.loads(config.read_text())
    else:
        accounts = {f"{name.upper()}KEY": _account(may_write=True)}
        if name == "partner":
            accounts["PARTNERREADER"] = _account(may_write=False)
        told = {"accounts": accounts, "folder": str(files / f"{name}-store")}
    config.touch(mode=0o600)
    config.write_text(json.dumps(told | {"port": port}))
    return config


def _set_up(
    client: Client, configs: list[Path], files: Path, *, unhurried: bool, say: Callable[[str], None]
) -> None:
    """Stores, buckets, jobs and one run of each: whatever of it isn't there yet."""
    stores = {s["name"]: s for s in client.stores()}
    for name in ("posts", "counts", mishaps.STORE, letters.STORE):
        if name not in stores:
            client.add_store({"name": name, "kind": "folder", "path": str(files / name)})
    for name, config in zip(("office", "partner"), configs, strict=True):
        told = json.loads(config.read_text())
        key_id, account = next(iter(told["accounts"].items()))
        endpoint = f"http://127.0.0.1:{told['port']}"
        if name not in stores:
            form = {
                "name": name,
                "kind": "s3",
                "endpoint": endpoint,
                "key_id": key_id,
                "secret": account["secret"],
            }
            client.add_store(form)
            client.make_bucket(name, BUCKET if name == "office" else COPY_BUCKET)
            client.try_store(name, write_to=BUCKET if name == "office" else COPY_BUCKET)
        elif stores[name]["endpoint"] != endpoint:
            say(
                f"The store {name} was made for {stores[name]['endpoint']}: start with the "
                "port of then, or anew with FRESH=1."
            )
    known = {job["job"] for job in client.jobs()}
    for job in (*JOBS, *mishaps.JOBS, letters.JOB):
        if job["job"] not in known:
            client.define_job(job)
    for job in JOBS:
        if not client.runs(job=job["job"], limit=1):
            _first_run(
                client,
                job["job"],
                configs[0],
                unhurried=unhurried and job["job"] == "dawn-recordings",
                say=say,
            )
    _mishaps(client, configs[0], files, say=say)
    letters.await_first(client)


NEXT = (
    "Next: pinecart start dawn-recordings --follow; pinecart demo arrive; and the same start again."
)


def _museum(client: Client, files: Path, port: int, *, say: Callable[[str], None]) -> None:
    """A store by SFTP, a job to it and one run, where its server can be started."""
    if not museum.is_there():
        say(
            f"A store by SFTP is left out: its server isn't installed. With {museum.PACKAGE} "
            "installed (apt-get install), and the demo started again, it is there."
        )
        return
    if museum.STORE not in {store["name"] for store in client.stores()}:
        museum.add(client, files, port, pwd.getpwuid(os.geteuid()).pw_name)
        _carried_once(client, museum.JOB, say=say)


def _campus(client: Client, port: int, *, say: Callable[[str], None]) -> None:
    """A distributed file system, a job to it and one run."""
    names = [store["name"] for store in client.stores()]
    if campus.STORE in names:
        return
    campus.add(client, port)
    _carried_once(client, campus.JOB, say=say)


def _carried_once(client: Client, job: JsonObject, *, say: Callable[[str], None]) -> None:
    """Defines the job, runs it, and waits for its end, so that the demo has something to show from
    the first minute.
    """
    name = job["job"]
    client.define_job(job)
    number = client.start(name)["id"]
    for _ in client.follow(number):
        pass
    run = client.run(number)
    say(f"{name}: {run['sentence']}")


def _mishaps(client: Client, office: Path, files: Path, *, say: Callable[[str], None]) -> None:
    """One run that waits for a yes, and one with a problem."""
    names = [job["job"] for job in mishaps.JOBS]
    if any(client.runs(job=name, limit=1) for name in names):
        return
    for name in names:
        _first_run(client, name, office, unhurried=False, say=say)
    mishaps.let_happen(client, files)
    for name in names:
        (last,) = client.runs(job=name, limit=1)
        sentence = last["sentence"]
        say(f"{name}: {sentence}")


def _first_run(
    client: Client, job: str, office: Path, *, unhurried: bool, say: Callable[[str], None]
) -> None:
    port = json.loads(office.read_text())["port"]
    if unhurried:
        slowly = {"put": {"per_second": FIRST_RUN_PER_SECOND}}
        _behave(port, slowly)
        say(
            f"The first run of {job} is slowed so that it can be watched (about 40 s): "
            "pinecart run follow 1"
        )
    number = client.start(job)["id"]
    for _ in client.follow(number):
        pass
    if unhurried:
        _behave(port, {})
    ended = client.run(number)
    say(f"{job}: {ended['sentence']}")


def _behave(port: int, behaviour: JsonObject) -> None:
    httpx.post(f"http://127.0.0.1:{port}/_standin/behaviour", json=behaviour).raise_for_status()
