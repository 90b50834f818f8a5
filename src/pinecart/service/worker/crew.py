"""The helpers of one run: started once there is enough for them to do, given batches, and heard."""

from __future__ import annotations

import asyncio
import contextlib
import itertools
import json
import sys
from collections import Counter
from collections.abc import Callable, Mapping, Sequence

from pinecart.core.batch import Batch, BatchAnswer, Parts, Result, Sent, Task
from pinecart.core.definition_reading import read_definition
from pinecart.core.entries import Entry
from pinecart.core.errors import PinecartError
from pinecart.json_object import JsonObject

AT_ONCE = 2  # batches with one helper: the next lies ready when one is done
MOST_LINE = 64 << 20  # bytes of an answer
END_S = 10.0


class HelperProcess:
    """One helper process. What it holds when it goes comes back without an answer."""

    def __init__(self, crew: HelperCrew) -> None:
        """Begun by `work`; a helper that dies is begun anew, and what it had in hand fails, to be
        tried again.
        """
        self._crew = crew
        self._process: asyncio.subprocess.Process | None = None
        self._open: dict[int, asyncio.Future[Sequence[Result]]] = {}
        self._recalled = False
        self.requests: dict[str, int] = {}
        self.held = 0
        self.ready = False

    async def work(self) -> None:
        """Start it, and hear it until it ends."""
        command = [sys.executable, "-m", "pinecart.service.worker.helper"]
        pipe = asyncio.subprocess.PIPE
        self._process = await asyncio.create_subprocess_exec(
            *command, stdin=pipe, stdout=pipe, limit=MOST_LINE, pass_fds=[self._crew.lock]
        )
        try:
            if self._crew.closing:
                return
            self._tell(self._crew.order)
            assert self._process.stdout
            while line := await self._process.stdout.readline():
                if line == b"ready\n":
                    self.ready = True
                else:
                    self._hear(BatchAnswer.read(line.decode()))
        except (OSError, ValueError, PinecartError) as exc:
            self._crew.log("helper-lost", f"A helper could not be used: {exc}")
        finally:
            self.ready = False
            if not self._crew.closing:
                self._crew.log(
                    "helper-lost", "A helper has gone. What it held is carried by this process."
                )
            for future in self._open.values():
                if not future.done():
                    future.set_result(())
            await self.end()

    def _hear(self, answer: BatchAnswer) -> None:
        """The first answer for a batch counts; one that nobody waits for is nothing."""
        self.requests = answer.requests
        future = self._open.pop(answer.number, None)
        if (
            future is not None
            and not future.done()
            and (answer.run, answer.epoch) == self._crew.run
        ):
            future.set_result(answer.results)

    async def carry(self, leg: int, tasks: Sequence[Task]) -> Sequence[Result]:
        heading = self._crew.heading(leg)
        batch = Batch(*heading, tuple(tasks))
        message = {"batch": batch.text()}
        results = await self._answer(batch.number, message, len(tasks))
        unanswered = results.count(None)
        self._crew.files += len(results) - unanswered
        return results

    async def send(
        self, leg: int, key: bytes, entry: Entry, upload: str, step: int, numbers: Sequence[int]
    ) -> Mapping[int, tuple[str, str]]:
        heading = self._crew.heading(leg)
        parts = Parts(*heading, key, entry, upload, step, tuple(numbers))
        message = {"parts": parts.text()}
        results = await self._answer(parts.number, message, len(numbers))
        sent = {}
        for number, result in zip(numbers, results, strict=True):
            if isinstance(result, Sent):
                sent[number] = (result.etag, result.crc)
        self._crew.parts += len(sent)
        return sent

    async def _answer(self, number: int, ask: JsonObject, count: int) -> Sequence[Result]:
        """`count` results; None each where it is not ready, or goes before it has answered."""
        self._recalled = False
        nothing = [None] * count
        found = asyncio.get_running_loop().create_future()
        self._open[number] = found
        try:
            if not self.ready:
                return nothing
            self._tell(ask)
            results = await found
            if len(results) == count:
                return results
            return nothing
        finally:
            self._open.pop(number, None)
            self.held -= 1

    def recall(self) -> None:
        if not self._recalled:
            self._recalled = True
            self._tell({"recall": True})

    def _tell(self, what: JsonObject) -> None:
        """One line of JSON. Nothing waits for it here: the process reads all that it is given."""
        assert self._process and self._process.stdin
        line = json.dumps(what).encode() + b"\n"
        with contextlib.suppress(OSError, RuntimeError):  # it has gone: the reader hears its end
            self._process.stdin.write(line)

    def renew(self, stores: JsonObject) -> None:
        if self.ready:
            self._tell({"stores": stores})

    def rest(self, seconds: dict[str, float]) -> None:
        if self.ready:
            self._tell({"rest": seconds})

    async def end(self) -> None:
        """Let it finish what it has begun, for a while."""
        if self._process is None:
            return
        if self.ready:
            self._tell({"end": True})
            with contextlib.suppress(TimeoutError):
                async with asyncio.timeout(END_S):  # `wait_for` may lose that we are told to end
                    await self._process.wait()
        if self._process.returncode is None:
            with contextlib.suppress(ProcessLookupError):
                self._process.kill()
            await self._process.wait()


class HelperCrew:
    """given: the order of the run's process, secrets included.   lock: descriptor of the run's
    lock, which each helper holds too.
    """

    def __init__(
        self,
        given: JsonObject,
        lock: int,
        count: int,
        most_at_once: int,
        log: Callable[..., None],
    ) -> None:
        """lock: the run's, which helpers hold as well, so that it isn't taken up anew before the
        last of them has ended.
        """
        self.order = {k: given[k] for k in ("run", "epoch", "definition", "stores")}
        self.order |= {"most_at_once": most_at_once, "retry_s": given["retry_s"]}
        self.run = given["run"], given["epoch"]
        self._definition = read_definition(given["definition"])
        self.lock = lock
        self.log = log
        self._numbers = itertools.count(1)
        self._helpers = [HelperProcess(self) for _ in range(count)]
        self._working: list[asyncio.Task[None]] = []
        self.closing = False
        self.files = self.parts = 0

    def free(self) -> HelperProcess | None:
        """One that has room for another batch. None of them is begun before there is work to
        share.
        """
        if not self._working:
            self._working = [asyncio.create_task(h.work()) for h in self._helpers]
            self.log("helpers", f"{len(self._helpers)} helpers carry files beside this process.")
        for helper in self._helpers:
            if helper.ready and helper.held < AT_ONCE:
                helper.held += 1
                return helper
        return None

    def requests(self) -> dict[str, int]:
        """store → sent by all of them, as far as they have told."""
        sent = Counter[str]()
        for helper in self._helpers:
            sent.update(helper.requests)
        return dict(sent)

    def heading(self, leg: int) -> tuple[int, int, int, int, str, str, str]:
        """The fields that each kind of batch begins with."""
        places = self._definition.legs[leg]
        run, epoch = self.run
        return (
            next(self._numbers),
            run,
            leg,
            epoch,
            self._definition.digest,
            places.source.text,
            places.target.text,
        )

    def rest(self, seconds: dict[str, float]) -> None:
        """Stores asked for a pause: store → seconds."""
        for helper in self._helpers:
            helper.rest(seconds)

    def renew(self, stores: JsonObject) -> None:
        """New keys, from the next request on."""
        for helper in self._helpers:
            helper.renew(stores)

    async def close(self) -> None:
        self.closing = True
        for helper in self._helpers:
            await helper.end()
        await asyncio.gather(*self._working)
        if self._working:
            parts = f" and sent {self.parts} parts of large ones" if self.parts else ""
            self.log(
                "helpers",
                f"Helpers tried {self.files} files{parts}.",
                files=self.files,
                parts=self.parts,
            )
