"""A run's own process: reads its order from the pipe, holds the run's lock, carries it out, writes
under its epoch.
"""

from __future__ import annotations

import asyncio
import contextlib
import fcntl
import json
import os
import resource
import signal
import sys
import time
from contextlib import closing

from pinecart.core.audit import read_rules
from pinecart.core.definition_reading import read_definition
from pinecart.core.errors import PinecartError, SignInRefused
from pinecart.core.part import read_part
from pinecart.core.places import key_of_text
from pinecart.core.ports import Appends, RenewsKey, Store
from pinecart.core.retry import Retry
from pinecart.core.totals import files_text
from pinecart.drivers import open_store
from pinecart.json_object import JsonObject
from pinecart.runner.records import BatchRules, RecordsLost
from pinecart.runner.run import MOST_AT_ONCE, Ending, Order, carry_out
from pinecart.runner.scratch import Scratch
from pinecart.service.aside import selectors as aside
from pinecart.service.config.process import end_with_parent, settle_in
from pinecart.service.config.settings import OPTIONS, STATE
from pinecart.service.runs.selectors import records
from pinecart.service.runs.services import epochs, life_cycle, run_records
from pinecart.service.worker.crew import HelperCrew
from pinecart.service.worker.database_threads import reads, writes
from pinecart.service.worker.run_desk import RunRecords
from pinecart.service.worker.run_log import RunLog

with contextlib.suppress(ImportError):
    import uvloop

    asyncio.set_event_loop_policy(uvloop.EventLoopPolicy())


def main() -> None:
    """The order comes on standard input. The run's lock is held to the end of this process, so that
    whoever gets it knows that nobody works.
    """
    resource.setrlimit(resource.RLIMIT_CORE, (0, 0))
    signal.signal(
        signal.SIGTERM, lambda *_: os._exit(0)
    )  # the lock goes, the run is interrupted, and goes on later
    signal.signal(signal.SIGINT, signal.SIG_IGN)
    line = sys.stdin.buffer.readline()
    if not line:
        return  # the worker has ended before there was an order
    given = json.loads(line)
    with (
        STATE.run_file(given["run"], "lock").open("a") as lock,
        closing(RunLog(given["run"], STATE.run_file(given["run"], "log.jsonl"))) as log,
    ):
        fcntl.flock(lock, fcntl.LOCK_EX)
        desk = RunRecords(given, log)
        _append_too(given["log_file"], log)
        try:
            asyncio.run(_work(given, desk, lock.fileno()))
        except epochs.Superseded as exc:
            desk.log("superseded", str(exc))
        except RecordsLost as exc:
            desk.log("records-lost", f"{exc} This process ends; the run is taken up again.")


def _append_too(file: JsonObject | None, log: RunLog) -> None:
    """To the file that the job names, too."""
    if file is None:
        return
    try:
        store = open_store(file["store"])
        if isinstance(store, Appends):
            log.others = store.open_to_append(key_of_text(file["key"], field="log_file"))
    except (PinecartError, OSError) as exc:
        log.write("log-file", f"The log can't be appended to {file['place']}: {exc}", {})


async def _work(given: JsonObject, desk: RunRecords, lock: int) -> None:
    settle_in()
    loop = asyncio.get_running_loop()
    opened = dict[str, Store]()
    crew = None
    number = given["run"]
    epoch = given["epoch"]
    if OPTIONS.helpers and given["kind"] == "transfer":
        crew = desk.crew = HelperCrew(given, lock, OPTIONS.helpers, MOST_AT_ONCE, desk.log)

    def take_up(told: bytes) -> None:
        """New keys for stores that are open: used from the next request on."""
        stores = json.loads(told)["stores"]
        for name, spec in stores.items():
            store = opened.get(name)
            if isinstance(store, RenewsKey):
                store.renew(spec)
        if crew:
            crew.renew(stores)

    end_with_parent(lambda told: loop.call_soon_threadsafe(take_up, told))
    desk.log("started", f"Works on {given['kind']} of {given['job']}.", epoch=epoch)
    try:
        order = await asyncio.to_thread(_order, given)
        order = order._replace(pacer=desk.pacer, crew=crew)
        if order.part.exactly:
            promise = await reads(records.promised_by, order.part.exactly)
            order = order._replace(promise=promise)
        opened.update(order.stores)
        desk.opened = order.stores
        await writes(desk.open_scopes, given["job"], order)
        await writes(run_records.forget_undone, number, epoch)
        await reads(desk.await_others, given["awaited"], order.stores)
    except PinecartError as exc:
        ending = Ending([], None, 0, False, exc)
    else:
        ending = await _carried(order, desk)
    if crew:
        await crew.close()
    await writes(life_cycle.end_run, number, epoch, ending)
    desk.forget_intents()
    code = ending.error.code if ending.error else ""
    desk.log("ended", "Ended.", code=code)


async def _carried(order: Order, desk: RunRecords) -> Ending:
    try:
        return await carry_out(order, desk)
    except (epochs.Superseded, RecordsLost):
        raise
    except Exception as exc:  # noqa: BLE001 - a defect of ours must end this run with its reason, and no other
        desk.log("defect", f"{type(exc).__name__}: {exc}")
        recorded = await reads(records.objects_recorded, order.run)
        kind = type(exc).__name__
        verb = "is" if recorded == 1 else "are"
        message = (
            f"A defect in Pine Cart ended this run ({kind}); its log has more. "
            f"{files_text(recorded)} {verb} on record. What else it "
            "did is found by the next run, which looks before it copies."
        )
        return Ending([], None, 0, False, PinecartError(message))


def _order(given: JsonObject) -> Order:
    if given["refused"]:
        message, code = given["refused"]
        raise SignInRefused(message, code=code)
    if given["missing"]:
        raise PinecartError(given["missing"], code="store.unknown")
    clash = given.get("clash")
    if clash:
        raise PinecartError(clash["message"], code=clash["code"])
    stores: dict[str, Store] = {name: open_store(spec) for name, spec in given["stores"].items()}
    definition = read_definition(given["definition"])
    return Order(
        given["run"],
        given["kind"],
        definition,
        stores,
        Scratch(str(STATE.scratch)),
        retry=Retry(for_s=OPTIONS.retry_s),
        batches=BatchRules(rows=OPTIONS.batch_rows),
        stamp=time.strftime("%Y-%m-%d %H.%M.%S", time.gmtime()),
        undo=given["kind"] == "preview" and given["of"] is not None,
        released=frozenset(given["released"]),
        ours=(*aside.places_aside(), *aside.probes_left()),
        settle_s=OPTIONS.settle_s,
        rebound=tuple((message, digest) for message, digest in given["rebound"]),
        part=read_part(given["part"], len(definition.legs)),
        audit=read_rules(given["audit"]),
    )
