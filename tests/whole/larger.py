"""A service with one more of each sort than there is: `python -m tests.whole.larger STATE PORT`."""

from __future__ import annotations

import sys
from collections.abc import Iterator, Mapping
from datetime import datetime, timedelta
from pathlib import Path
from typing import Any, NamedTuple

from pinecart.core.form_fields import FieldType, FormField
from pinecart.core.option_spec import OptionSpec, always
from pinecart.core.options import add
from pinecart.core.pasting import PasteRules
from pinecart.core.triggers import TRIGGERS, TriggerKind, TriggerState, one_by_one
from pinecart.drivers import DRIVERS
from pinecart.drivers.connection_steps import Step
from pinecart.drivers.driver_spec import DriverSpec
from pinecart.drivers.memory import MemoryStore
from pinecart.service.config.state import Options, StateFolder
from pinecart.service.supervisor import prepare

BOARD = FormField(
    "board", FieldType.TEXT, "Board", "Which board of the shelf.", is_needed=True, example="oak"
)
PIN = FormField("pin", FieldType.UNSEEN, "Pin", "Of the shelf's lock.", is_sealed=True)
GREETING = FormField("greeting", FieldType.TEXT, "Greeting", "Said before anything is done.")
PLACE = FormField("place", FieldType.TEXT, "Place", "Where the sun comes up.", is_needed=True)


async def try_shelf(spec: Mapping[str, Any], write_to: str, steps: list[Step]) -> None:
    steps.append(Step("look", True, f"The board {spec['board']} is there."))


SHELF = DriverSpec(
    kind="shelf",
    title="A shelf in memory",
    fields=(BOARD, PIN),
    open=lambda spec: MemoryStore(spec["name"], {}),
    try_it=try_shelf,
    system=lambda fields: f"shelf:{fields['board']}",
    root=lambda fields: b"",
    bound_by=("board",),
    pasting=PasteRules("shelf", lambda text: {}, "board", ((("board",), "board"),)),
)


class AtDawn(NamedTuple):
    place: str

    def due(self, now: datetime, state: TriggerState) -> datetime:
        return now + timedelta(days=1)

    def upcoming(self, now: datetime, most: int, until: datetime) -> list[datetime]:
        return one_by_one(self, now, most, until)

    def describe(self) -> str:
        return f"at dawn in {self.place}"

    def as_mapping(self) -> dict[str, Any]:
        return {"kind": "dawn", "place": self.place}


def write_names(run: Any) -> Iterator[str]:
    yield f"names of run {run.pk}\n"


def main(state: StateFolder, port: int) -> None:
    DRIVERS.add(SHELF.kind, SHELF)
    greets = OptionSpec(
        GREETING, always(""), sentence=lambda value, chosen: f"Says {value}." if value else ""
    )
    add(greets)
    dawn = TriggerKind("dawn", "At dawn", (PLACE,), lambda given: AtDawn(str(given["place"])))
    TRIGGERS.add(dawn.kind, dawn)
    state.prepare()
    state.write_options(Options(host="127.0.0.1", port=port))
    welcome = prepare(state)
    assert welcome
    (state.root / "password").write_text(welcome.password)
    from pinecart.service.runs.report_formats import REPORT_FORMATS, ReportFormat

    REPORT_FORMATS.add("names", ReportFormat("names", "Names", "text/plain", write_names))
    from pinecart.service.config.asgi import main as serve_web

    serve_web()


if __name__ == "__main__":
    main(StateFolder(Path(sys.argv[1])), int(sys.argv[2]))
