"""One method for each call of the API; JSON in, JSON out, errors by name."""

from __future__ import annotations

import time
from collections.abc import Callable, Iterator
from typing import Any

import httpx

from pinecart.client.door import json_of, must_be_good
from pinecart.client.errors import ServiceUnreachable, from_answer
from pinecart.client.jobs_api import JobCalls
from pinecart.client.places import closest, is_address, located
from pinecart.client.telling_api import TellingCalls
from pinecart.json_object import JsonObject

RECONNECTS = 20


class Client(JobCalls, TellingCalls):
    """A service at `url`, asked with a bearer token. Use it as a context manager, or `close` it."""

    def location(self, text: str) -> str:
        """A place as a person gives it (a location, a path of this machine, an address of another
        machine that a store reaches, quoted or not) as a location. Raises Invalid.
        """
        if is_address(text):
            return closest(text, self.find_place(text))
        return located(text, self.url, _later(self.stores))

    # --- the service

    def metrics(self) -> str:
        """Figures in the Prometheus text format."""
        answer = self.http.get(f"{self.url}/metrics")
        must_be_good(answer)
        return answer.text

    def picture(self) -> JsonObject:
        """The last 24 hours as lanes, what was carried on each of 14 days, and the stores."""
        return self.ask("GET", "today/picture")

    def weeks(self, job: str = "", *, weeks: int = 8) -> list[JsonObject]:
        """What transfers came to week by week, the newest first. job: empty: of all."""
        return self.ask("GET", "weeks", params={"job": job, "weeks": weeks})

    def health(self) -> JsonObject:
        return self.ask("GET", "health")

    def whoami(self) -> JsonObject:
        return self.ask("GET", "session")

    def token_for(self, name: str, password: str, *, token_name: str, code: str = "") -> str:
        """Sign in with a password and the second factor's code, and make a token for programs.

        Raises NotSignedIn.
        """
        person = {"name": name, "password": password, "code": code}
        session = self.ask("POST", "session", body=person)
        headers = self.http.headers
        headers["X-CSRFToken"] = session["csrf"]
        headers["Referer"] = self.url
        made = self.ask("POST", "tokens", body={"name": token_name})
        self.ask("DELETE", "session")
        return str(made["token"])

    def enter_by_code(self, code: str, password: str) -> JsonObject:
        """Set the password of the person whom an administrator gave this code. Raises Invalid."""
        return self.ask("POST", "entry", body={"code": code, "password": password})

    def today(self) -> JsonObject:
        return self.ask("GET", "today")

    def demo_arrive(self) -> JsonObject:
        return self.ask("POST", "demo/arrive")

    def people(self) -> list[JsonObject]:
        return self.ask("GET", "people")

    def add_person(self, name: str, password: str | None, rights: list[JsonObject]) -> JsonObject:
        """rights: [{"right": "look", "label": ""}, …]; an empty label stands for everything.

        password None: the answer has an `entry_code`, with which they set one.
        """
        body = {"name": name, "rights": rights} | (
            {} if password is None else {"password": password}
        )
        return self.ask("POST", "people", body=body)

    def make_entry_code(self, name: str) -> JsonObject:
        """A code, told this once, with which this person sets a new password: {"code": …,
        "ends_at": …}.
        """
        return self.ask("POST", f"people/{name}/entry-code")

    def change_person(self, name: str, **changes: Any) -> None:
        """changes: active, password, rights, second_factor (False: taken off). Switched off, or
        with a new password: signed out everywhere, and tokens end.
        """
        self.ask("PATCH", f"people/{name}", body=changes)

    def change_own_password(self, old: str, new: str) -> None:
        self.ask("PUT", "session/password", body={"old": old, "new": new})

    def begin_second_factor(self, password: str) -> JsonObject:
        """{"secret": …, "address": …} for an authenticator. Only for a session of a browser, not by
        a token.
        """
        return self.ask("POST", "session/second-factor", body={"password": password})

    def confirm_second_factor(self, code: str) -> None:
        self.ask("PUT", "session/second-factor", body={"code": code})

    def drop_second_factor(self, password: str) -> None:
        self.ask("POST", "session/second-factor/off", body={"password": password})

    def sessions(self, *, everybodys: bool = False) -> list[JsonObject]:
        return self.ask("GET", "sessions", params={"everybodys": everybodys})

    def end_session(self, number: int) -> None:
        self.ask("DELETE", f"sessions/{number}")

    def tokens(self, *, everybodys: bool = False) -> list[JsonObject]:
        return self.ask("GET", "tokens", params={"everybodys": everybodys})

    def make_token(
        self,
        name: str,
        *,
        person: str | None = None,
        days: int | None = None,
        right: str = "",
        starts: str = "",
        reads_calendar: bool = False,
    ) -> str:
        """right: it carries no more than this one.   starts: it may start this job, and nothing
        else.   reads_calendar: it may read the schedule as a calendar, and nothing else.
        """
        uses = {"starts": starts, "reads_calendar": reads_calendar}
        asked = {"person": person, "days": days, "right": right, **uses}
        body = {key: value for key, value in asked.items() if value not in (None, "")}
        return str(self.ask("POST", "tokens", body={"name": name, **body})["token"])

    def revoke_token(self, number: int) -> None:
        self.ask("DELETE", f"tokens/{number}")

    # --- stores

    def stores(self) -> list[JsonObject]:
        return self.ask("GET", "stores")

    def store(self, name: str) -> JsonObject:
        return self.ask("GET", f"stores/{name}")

    def add_store(self, form: JsonObject) -> JsonObject:
        return self.ask("POST", "stores", body=form)

    def change_store(self, name: str, changes: JsonObject) -> JsonObject:
        return self.ask("PATCH", f"stores/{name}", body=changes)

    def drop_store(self, name: str) -> None:
        self.ask("DELETE", f"stores/{name}")

    def forms(self) -> JsonObject:
        """What there is to fill in: the fields of stores, the options of jobs, the kinds of trigger
        and the formats of reports.
        """
        return self.ask("GET", "forms")

    def read_pasted(self, text: str) -> JsonObject:
        """What a pasted address or block of credentials holds: {"found", "odd"}; of secrets only
        that they were found.
        """
        return self.ask("POST", "store-forms/read", body={"pasted": text})

    def find_place(self, address: str) -> list[str]:
        """The locations at which stores reach an address of a share, a server or a storage."""
        told = self.ask("POST", "store-forms/find", body={"address": address})
        return [str(location) for location in told["locations"]]

    def try_form(self, form: JsonObject, *, write_to: str = "") -> JsonObject:
        return self.ask("POST", "store-forms/try", body={**form, "write_to": write_to})

    def try_store(self, name: str, *, write_to: str = "") -> JsonObject:
        return self.ask("POST", f"stores/{name}/try", body={"write_to": write_to})

    def go_on(self, store: str) -> list[int]:
        """One yes for every run that waits since this store refused its key; their numbers."""
        return list(self.ask("POST", f"stores/{store}/go-on")["runs"])

    def make_bucket(self, store: str, bucket: str) -> JsonObject:
        return self.ask("POST", f"stores/{store}/buckets", body={"bucket": bucket})

    def drop_bucket(self, store: str, bucket: str) -> None:
        """Only an empty one."""
        self.ask("DELETE", f"stores/{store}/buckets/{bucket}")

    def buckets(self, store: str) -> list[JsonObject]:
        """Each with whether it is empty and which jobs use it."""
        return self.ask("GET", f"stores/{store}/buckets")

    def upload(self, store: str, path: str, body: bytes | Iterator[bytes]) -> JsonObject:
        """Put a file where nothing is yet."""
        answer = self.http.request(
            "POST",
            f"stores/{store}/files",
            params={"path": path},
            content=body,
            headers={"Content-Type": "application/octet-stream"},
            timeout=None,
        )
        if answer.status_code >= 400:
            raise from_answer(answer.status_code, json_of(answer))
        return json_of(answer)

    def archive(self, store: str, path: str, keys: list[str]) -> Iterator[bytes]:
        """A ZIP of these names below `path` (none: all of it), in pieces."""
        params: JsonObject = {"path": path, "key": keys}
        with self.http.stream(
            "GET", f"stores/{store}/archive", params=params, timeout=None
        ) as answer:
            must_be_good(answer)
            yield from answer.iter_bytes()

    def sides(self, here: str, there: str, *, different: bool = False) -> Iterator[JsonObject]:
        """Two places as one list, merged by name."""
        after = ""
        while True:
            params = {
                "here": here,
                "there": there,
                "after": after,
                "different": different,
                "limit": 1000,
            }
            found = self.ask("GET", "sides", params=params)
            yield from found["entries"]
            after = found["next"]
            if not after:
                return

    def find(self, name: str) -> list[JsonObject]:
        """Every place of a file's name, and the runs that touched it there."""
        return self.ask("GET", "find", params={"name": name})

    def head(self, store: str, path: str, version: str = "") -> JsonObject:
        """One file: size, time, metadata, first bytes. version: one that its bucket keeps."""
        return self.ask("GET", f"stores/{store}/head", params={"path": path, "version": version})

    def versions(self, store: str, path: str) -> list[JsonObject]:
        """The versions that a bucket keeps of one file, the newest first; none where
        it keeps none.
        """
        return self.ask("GET", f"stores/{store}/versions", params={"path": path})

    def save(self, store: str, path: str, version: str = "") -> Iterator[bytes]:
        """One file's content, in pieces. version: one that its bucket keeps."""
        params = {"path": path, "version": version}
        return self.pieces(f"stores/{store}/save", **params)

    def browse(
        self,
        store: str,
        path: str = "",
        *,
        everything: bool = False,
        match: str = "",
        page: int = 1000,
    ) -> Iterator[JsonObject]:
        """Entries of a place, page after page without end.

        match: with everything, only what matches this pattern.
        """
        after = ""
        while True:
            params = {
                "path": path,
                "after": after,
                "all": everything,
                "limit": page,
                "match": match,
            }
            found = self.ask("GET", f"stores/{store}/browse", params=params)
            yield from found["entries"]
            after = found["next"]
            if not after:
                return

    # --- runs

    def runs(
        self,
        *,
        job: str = "",
        state: str = "",
        since: str = "",
        until: str = "",
        only: str = "",
        limit: int = 50,
    ) -> list[JsonObject]:
        """The newest first. since, until: when they ended (ISO 8601).   only: transfer, undo or
        expiry.
        """
        params = {"job": job, "state": state, "only": only, "limit": limit}
        params |= {"since": since} if since else {}
        params |= {"until": until} if until else {}
        return self.ask("GET", "runs", params=params)

    def audits(self, *, job: str = "", limit: int = 50) -> list[JsonObject]:
        return self.ask("GET", "audits", params={"job": job, "limit": limit})

    def run(self, number: int) -> JsonObject:
        return self.ask("GET", f"runs/{number}")

    def audit(self, number: int) -> JsonObject:
        return self.ask("GET", f"audits/{number}")

    def preview(self, number: int) -> JsonObject:
        return self.ask("GET", f"previews/{number}")

    def objects(
        self,
        number: int,
        *,
        of: str = "runs",
        decision: str = "",
        problems: bool = False,
        held: bool = False,
        **more: Any,
    ) -> Iterator[JsonObject]:
        """What a run did, an audit found (of="audits") or a preview would do (of="previews"),
        object by object. more: leg, prefix, text, level.
        """
        what = "findings" if of == "audits" else "objects"
        after = 0
        while True:
            params = {
                "after": after,
                "limit": 1000,
                "decision": decision,
                "problems": problems,
                "held": held,
                **more,
            }
            page = self.ask("GET", f"{of}/{number}/{what}", params=params)
            yield from page
            if len(page) < 1000:
                return
            after = page[-1]["id"]

    def preview_folders(self, number: int, *, leg: int = 1, prefix: str = "") -> list[JsonObject]:
        """The folders of one level of a preview, each with what would be done in it."""
        params = {"leg": leg, "prefix": prefix}
        return self.ask("GET", f"previews/{number}/folders", params=params)

    def ran_by(self, number: int) -> JsonObject:
        """The definition that a run ran by, in sentences too, and its version."""
        return self.ask("GET", f"runs/{number}/definition")

    def objects_after(self, number: int, after: int) -> list[JsonObject]:
        """The next page of what a run did, from after record id `after` on."""
        return self.ask("GET", f"runs/{number}/objects", params={"after": after, "limit": 1000})

    def log(
        self, number: int, *, after: int = 0, level: str = "info", text: str = ""
    ) -> tuple[list[JsonObject], int]:
        """Lines of a run's log, and where to go on. level: lines of it or a worse one ("info",
        "warning", "error").   text: is in the line.
        """
        params = {"after": after, "level": level, "text": text}
        found = self.ask("GET", f"runs/{number}/log", params=params)
        return found["lines"], found["next"]

    def report_schema(self) -> JsonObject:
        """The JSON Schema of a line of a report as JSON lines."""
        return self.ask("GET", "report-schema")

    def report(self, number: int, kind: str = "html") -> Iterator[str]:
        """A run's report in pieces. kind: one of the `report_formats` of `forms`."""
        params = {"as": kind}
        with self.http.stream("GET", f"runs/{number}/report", params=params) as answer:
            must_be_good(answer)
            yield from answer.iter_text()

    def compare(self, number: int, other: int | None = None) -> JsonObject:
        """What a run carried and another didn't, and which problems are new. other: the one of its
        job before it, without.
        """
        params = {} if other is None else {"other": other}
        return self.ask("GET", f"runs/{number}/compare", params=params)

    def stop(self, number: int, *, at_once: bool = False) -> JsonObject:
        """at_once: what is in flight isn't finished either."""
        return self.ask("POST", f"runs/{number}/stop", body={"at_once": at_once})

    def pause(self, number: int) -> JsonObject:
        return self.ask("POST", f"runs/{number}/pause")

    def limit(self, number: int, rate: int | None) -> JsonObject:
        """Bytes per second from now on; None: no limit."""
        return self.ask("POST", f"runs/{number}/limit", body={"rate": rate})

    def resume(self, number: int) -> JsonObject:
        return self.ask("POST", f"runs/{number}/resume")

    def retry(self, number: int) -> JsonObject:
        """The same once more, as a new run."""
        return self.ask("POST", f"runs/{number}/retry")

    def release(self, number: int, digest: str, *, why: str = "") -> JsonObject:
        """Say yes to the held list with this digest. Raises Refused if it is another one by now."""
        return self.ask("POST", f"runs/{number}/release", body={"digest": digest, "why": why})

    def decline(self, number: int, *, why: str = "") -> JsonObject:
        return self.ask("POST", f"runs/{number}/decline", body={"why": why})

    def undo(self, number: int, *, preview: bool = False) -> JsonObject:
        """Take back what a run did, as a new run; or a preview of it."""
        return self.ask("POST", f"runs/{number}/undo", body={"preview": preview})

    def follow(
        self, number: int, *, reconnects: int = RECONNECTS
    ) -> Iterator[tuple[str, JsonObject]]:
        """(event, payload) until the run has ended, or waits for a person: "state" with the run,
        "progress" with its progress.

        A cut stream is taken up again where it was. The first and the last are always "state".
        """
        last_id = ""
        failed = 0
        while True:
            try:
                for number_text, kind, payload in self.events(number, last_id):
                    last_id = number_text
                    failed = 0
                    yield kind, payload
                    if kind == "state" and payload["state"] in ("ended", "held", "paused"):
                        return
            except httpx.HTTPError as exc:
                failed += 1
                if failed > reconnects:
                    raise ServiceUnreachable(
                        f"The service at {self.url} is gone.", code="service.unreachable"
                    ) from exc
            time.sleep(min(0.2 * 2**failed, 3))


def _later(call: Callable[[], list[JsonObject]]) -> Iterator[JsonObject]:
    """Asked for only where somebody wants it."""
    yield from call()
