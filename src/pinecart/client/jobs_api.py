"""The calls about jobs."""

from __future__ import annotations

from typing import Any

from pinecart.client.door import ApiDoor
from pinecart.json_object import JsonObject


class JobCalls(ApiDoor):
    """Defining, keeping, looking ahead, starting."""

    def jobs(self, **wanted: Any) -> list[JsonObject]:
        """All jobs, or those wanted: find, label, store, owner, last, is_on; sort, descending."""
        found: list[JsonObject] = []
        while True:
            page = self.jobs_page(skip=len(found), limit=500, **wanted)
            found += page["jobs"]
            if len(found) >= page["total"] or not page["jobs"]:
                return found

    def jobs_page(self, **wanted: Any) -> JsonObject:
        """A page of jobs, and how many there are in all."""
        return self.ask("GET", "jobs", params=wanted)

    def job(self, name: str) -> JsonObject:
        return self.ask("GET", f"jobs/{name}")

    def define_job(self, definition: JsonObject) -> JsonObject:
        return self.ask("POST", "jobs", body=definition)

    def check_job(self, definition: JsonObject) -> JsonObject:
        return self.ask("POST", "job-forms/check", body=definition)

    def look_over_job(self, definition: JsonObject) -> JsonObject:
        """The same, and what its stores answer: `findings`. Nothing is carried."""
        return self.ask("POST", "job-forms/look", body=definition)

    def count_job(self, definition: JsonObject) -> list[JsonObject]:
        """Leg by leg what it would do, counted at a glance for each intent."""
        return self.ask("POST", "job-forms/count", body=definition)

    def change_job(self, name: str, definition: JsonObject) -> JsonObject:
        return self.ask("PUT", f"jobs/{name}", body=definition)

    def job_versions(self, name: str) -> list[JsonObject]:
        """Every definition it had, the newest first, and what each changed."""
        return self.ask("GET", f"jobs/{name}/versions")

    def go_back(self, name: str, version: int) -> JsonObject:
        """Save a version that was before as the newest."""
        return self.ask("POST", f"jobs/{name}/back", body={"version": version})

    def switch_job(self, name: str, *, on: bool, why: str = "") -> JsonObject:
        """Whether it may be started by itself; by hand it always may."""
        return self.ask("POST", f"jobs/{name}/switch", body={"on": on, "why": why})

    def copy_job(self, name: str, new: str, *, turned: bool = False) -> JsonObject:
        """The same under another name; turned: the way back."""
        return self.ask("POST", f"jobs/{name}/copy", body={"job": new, "turned": turned})

    def export_jobs(self, *names: str) -> JsonObject:
        """Jobs as the text of a YAML file; without names, all."""
        return self.ask("GET", "job-files", params={"job": list(names)})

    def import_jobs(
        self,
        text: str,
        *,
        form: str = "yaml",
        job: str = "",
        stores: dict[str, str] | None = None,
        save: bool = False,
    ) -> JsonObject:
        """What a file of jobs ("yaml") or a table ("csv") would change; save: change it.

        stores: name in the text → name here.
        """
        body: JsonObject = {"text": text, "form": form, "job": job, "stores": stores or {}}
        body["only_check"] = not save
        return self.ask("POST", "job-files", body=body)

    def job_schema(self) -> JsonObject:
        """The JSON Schema of a job file."""
        return self.ask("GET", "job-schema")

    def drop_job(self, name: str) -> None:
        self.ask("DELETE", f"jobs/{name}")

    def start(self, job: str, **part: Any) -> JsonObject:
        """Raises Conflict while a run of it is under way: its number is `problem["run"]`.

        part: first, only (names), prefix, leg: a part of its files; none: all.
        """
        return self.ask("POST", f"jobs/{job}/start", body=part)

    def call(self, job: str) -> JsonObject:
        """Start it by a call from outside: {"run", "state"}. One run waits at most."""
        return self.ask("POST", f"jobs/{job}/call")

    def start_preview(self, job: str, *, wait: bool = False, **part: Any) -> JsonObject:
        """wait: begins only once no run of the job is under way.   part: see `start`."""
        return self.ask("POST", f"jobs/{job}/preview", body={"wait": wait, **part})

    def start_exactly(self, preview: int) -> JsonObject:
        """Carry out what a preview found, as far as it is still as it was seen then."""
        return self.ask("POST", f"previews/{preview}/start")

    def explain(self, job: str, key: str) -> list[JsonObject]:
        """Leg by leg why a file is carried, or isn't. key: its name at the source, or there."""
        return self.ask("GET", f"jobs/{job}/explain", params={"key": key})

    def start_audit(
        self, job: str, *, wait: bool = False, depth: str = "names", sample: int = 100
    ) -> JsonObject:
        """wait: begins only once no run of the job is under way.   depth: names, metadata or
        content.   sample: of so many in a hundred files more than names and sizes is compared.
        """
        body = {"wait": wait, "depth": depth, "sample": sample}
        return self.ask("POST", f"jobs/{job}/audit", body=body)

    def take_inventory(self, location: str) -> JsonObject:
        """Count what lies in a place; the run that does it."""
        return self.ask("POST", "inventories", body={"location": location})

    def inventory(self, number: int, folder: str = "") -> JsonObject:
        """folder: the key_id of one that the inventory tells; empty: the place itself."""
        return self.ask("GET", f"inventories/{number}", params={"folder": folder})

    def inventories(self, *, limit: int = 50) -> list[JsonObject]:
        """The newest first."""
        return self.ask("GET", "inventories", params={"limit": limit})

    def audit_places(
        self, here: str, there: str, *, depth: str = "names", sample: int = 100, **rules: Any
    ) -> JsonObject:
        """An audit of two places. rules: take, leave_out."""
        body = {"from": here, "to": there, "depth": depth, "sample": sample, **rules}
        return self.ask("POST", "audits/places", body=body)

    def preview_repair(self, audit: int) -> JsonObject:
        """What it would take to make right what an audit found; `start_exactly` carries it out."""
        return self.ask("POST", f"audits/{audit}/repair")

    def carry(self, source: str, target: str, *, preview: bool = False, **rules: Any) -> JsonObject:
        """Start a one-off transfer: {"run", "sentences", "example"}. rules: intent, take,
        leave_out, rename and so on.
        """
        return self.ask(
            "POST", "carries", body={"from": source, "to": target, "preview": preview, **rules}
        )

    def check_carry(self, source: str, target: str, **rules: Any) -> JsonObject:
        """What the two places mean and what would be done; nothing is started."""
        return self.ask("POST", "carries/check", body={"from": source, "to": target, **rules})

    def remove(self, location: str, *, preview: bool = False, **rules: Any) -> JsonObject:
        """Start a removal: {"run", "sentences"}. It waits with its list; `release` names that
        list's digest.
        """
        return self.ask(
            "POST", "removals", body={"location": location, "preview": preview, **rules}
        )

    def keep(self, number: int, job: str) -> JsonObject:
        """Keep a carry as a job."""
        return self.ask("POST", f"runs/{number}/keep", body={"job": job})

    def triggers(self, *, job: str = "") -> list[JsonObject]:
        """What starts jobs besides the clock, and what came of it. job: only this one's."""
        return self.ask("GET", "triggers", params={"job": job} if job else {})

    def watch(self, job: str = "", *, carry: JsonObject | None = None) -> JsonObject:
        """Start a job, or a one-off transfer ({"from", "to", …}), at each change of its source: for
        a minute, unless `keep_watching` is called.
        """
        return self.ask("POST", "watches", body={"carry": carry} if carry else {"job": job})

    def keep_watching(self, number: int) -> JsonObject:
        """For another minute; what came of it up to now."""
        return self.ask("POST", f"watches/{number}")

    def end_watch(self, number: int) -> None:
        self.ask("DELETE", f"watches/{number}")

    def settings(self) -> JsonObject:
        """What holds for the whole service: {"values", "guards"}."""
        return self.ask("GET", "settings")

    def change_settings(self, given: JsonObject) -> JsonObject:
        """values: all of them, each as name=value.   guards: all that are not as usual. What is
        left out stays.
        """
        return self.ask("PUT", "settings", body=given)

    def schedule(self, *, days: int = 7) -> list[JsonObject]:
        """What will run when, the next first; every due time within so many days."""
        return self.ask("GET", "schedule", params={"days": days})
