"""Watching a run: one line a state of things on a terminal, plain lines elsewhere. Ctrl-C stops
watching, not the run.
"""

from __future__ import annotations

import sys
import time

import click

from pinecart.cli.frame import Cart, say
from pinecart.cli.single_keys import KeyPresses, single_keys
from pinecart.cli.words import files, mark, size, span, width
from pinecart.json_object import JsonObject

BETWEEN_PLAIN_S = 5.0
ASK_EVERY_S = 1.0
SECOND_CTRL_C_S = 2.0


def follow_quietly(cart: Cart, run: JsonObject, of: str) -> JsonObject:
    """Wait for a preview, an audit or an inventory to end; gives it as it ended."""
    number = run["id"]
    for _, _told in cart.client.follow(number):
        pass
    if of == "previews":
        return cart.client.preview(number)
    if of == "inventories":
        return cart.client.inventory(number)
    return cart.client.audit(number)


def follow(cart: Cart, number: int, *, each: bool) -> JsonObject:
    """Watch a run until it has ended; gives it as it ended.

    each: a line on stderr for every file.
    """
    line = _Line()
    seen = 0
    try:
        with single_keys() as keys:
            for kind, told in cart.client.follow(number):
                if kind == "progress":
                    _draw(line, told, keys)
                else:
                    line.state(told)
                if each:
                    seen = _print_new(cart, number, seen, line)
    except KeyboardInterrupt:
        line.end()
        _leave(cart, number)
    line.end()
    return cart.client.run(number)


def _draw(line: _Line, told: JsonObject, keys: KeyPresses) -> None:
    text = progress_line(told)
    if keys.are_heard:
        text += "   (Space: more · Ctrl-C: leave it)"
    line.draw(text)
    if keys.was_pressed(" "):
        line.clear()
        for part in _more(told):
            say(part)


def _more(told: JsonObject) -> list[str]:
    """What the line has no room for."""
    lines = []
    for file in told["in_flight"]:
        key = file["key"]
        length = size(file["bytes"])
        lines.append(f"  on its way: {key}  {length}")
    looked = f"{told['listed']:,} looked at"
    same = f"{told['unchanged']:,} unchanged"
    problems = f"{told['problems']:,} problems"
    lines.append(f"  {looked}, {same}, {problems}")
    return lines


def _leave(cart: Cart, number: int) -> None:
    """No longer watched. A second Ctrl-C just after stops the run, after a yes."""
    again = f"Watch again: pinecart run follow {number}. Stop it: pinecart run stop {number}"
    is_terminal = sys.stdin.isatty() and sys.stderr.isatty()
    more = ", or Ctrl-C once more" if is_terminal else ""
    say(f"No longer watching; run {number} goes on. {again}{more}")
    if is_terminal:
        try:
            time.sleep(SECOND_CTRL_C_S)
        except KeyboardInterrupt:
            if click.confirm(f"Stop run {number}? What is in flight is finished.", err=True):
                cart.client.stop(number)
                say(f"Run {number} is stopping.")
    sys.exit(130)


def _print_new(cart: Cart, number: int, seen: int, line: _Line) -> int:
    for row in cart.client.objects_after(number, seen):
        line.clear()
        if row["error"]:
            said = f"  {row['error']}: {row['message']}"
        else:
            said = f"  {row['decision']} · {row['reason']}  {size(row['bytes'])}"
        say(f"{row['key']}{said}")
        seen = row["id"]
    return seen


def progress_line(told: JsonObject) -> str:
    """`transferring  120 of at least 400 files · 18.0 MiB of 60.1 MiB · 1.5 MiB/s · 28 s left`."""
    phases = told["phases"]
    phase = phases[-1] if phases else "starting"
    parts = []
    if phase in ("connecting", "listing"):
        parts.append(f"{told['listed']:,} looked at")
    parts += _amounts(told)
    rate = size(told["rate_bytes"])
    parts.append(f"{rate}/s")
    seconds = told["seconds_left"]
    if seconds is not None:
        parts.append(f"{_about(told)}{span(seconds)} left")
    if told.get("waits_for"):
        parts.append(told["waits_for"])
    problems = told["problems"]
    if problems:
        parts.append(f"▲ {problems:,} problems")
    return f"{phase}  " + " · ".join(parts)


def _about(told: JsonObject) -> str:
    if told["listing_complete"]:
        return ""
    return "at least "


def _amounts(told: JsonObject) -> list[str]:
    """Objects and bytes: what is done of all that is planned."""
    done = told["done"]
    planned = told["planned"]
    count = done["objects"]
    of = files(planned["objects"])
    objects = f"{count:,} of {_about(told)}{of}"
    carried = size(done["bytes"])
    in_all = size(planned["bytes"])
    return [objects, f"{carried} of {in_all}"]


def follow_changes(cart: Cart, watch: JsonObject, of: str) -> None:
    """Keep a watch up, and tell each run that it starts as it ends. Ctrl-C ends the watch."""
    number = watch["watch"]
    seen = None
    say(f"Watching {of}: each change starts a run. To end it: Ctrl-C")
    line = _Line()
    try:
        while True:
            watch = cart.client.keep_watching(number)
            line.draw(watch["message"] or watch["waits"] or "nothing new")
            if watch["run"] != seen:
                seen = watch["run"]
                line.clear()
                _tell_run(cart, seen, line)
            time.sleep(ASK_EVERY_S)
    except KeyboardInterrupt:
        line.clear()
        cart.client.end_watch(number)
        say("No longer watching. What was started goes on.")


def _tell_run(cart: Cart, number: int, line: _Line) -> None:
    client = cart.client
    for kind, told in client.follow(number):
        if kind == "progress":
            line.draw(progress_line(told))
    line.clear()
    run = client.run(number)
    sign = mark(run)
    sentence = run["sentence"]
    words = f"{sign}  run {number}: {sentence}"
    cart.show(run, lambda: click.echo(words))


class _Line:
    """One line that is drawn over on a terminal; a new line every few seconds where it is none."""

    def __init__(self) -> None:
        self._tty = sys.stderr.isatty()
        self._last = 0.0
        self._drawn = False

    def draw(self, text: str) -> None:
        """Over the line before in a terminal; elsewhere, such as in a file, a new line, and not
        more often than every few seconds.
        """
        if self._tty:
            click.echo("\r\x1b[K" + text[: width() - 1], nl=False, err=True)
            self._drawn = True
        elif time.monotonic() - self._last >= BETWEEN_PLAIN_S:
            self._last = time.monotonic()
            say(text)

    def state(self, run: JsonObject) -> None:
        """Of those states in which nothing moves: why it waits, and that nobody has to do anything
        about it.
        """
        state = run["state"]
        if state == "queued":
            waiting = f"run {run['id']} of {run['job']} is queued"
            self.draw(run["message"] or waiting)
        elif state == "interrupted":
            self.draw("interrupted: its process ended; it goes on by itself")

    def clear(self) -> None:
        if self._drawn:
            click.echo("\r\x1b[K", nl=False, err=True)
            self._drawn = False

    def end(self) -> None:
        self.clear()
