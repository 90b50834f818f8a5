"""A job's life: versions, on and off, copies, the way back; and finding it among many."""

from __future__ import annotations

import json
import os

import pytest

from pinecart.client import ClientError
from tests.whole.house import until


def test_every_saved_change_keeps_the_one_before_and_one_can_go_back(shared):
    shared.fresh_job("kept-versions", {"a": b"1"})
    with shared.client() as cart:
        first = cart.job("kept-versions")["definition"]
        leg = first["legs"][0] | {"leave_out": ["*.tmp"]}
        changed = cart.change_job("kept-versions", first | {"why": "a wish", "legs": [leg]})
        assert changed["version"] == 2
        newest, oldest = cart.job_versions("kept-versions")
        assert [d["title"] for d in newest["differences"]] == ["Why it exists", "Leave out (leg 1)"]
        assert (newest["differences"][1]["before"], newest["differences"][1]["after"]) == (
            "as usual",
            "*.tmp",
        )
        assert oldest["definition"] == first and oldest["saved_by"] == "admin"
        again = cart.go_back("kept-versions", 1)
        assert (again["version"], again["definition"]) == (3, first)
        assert cart.change_job("kept-versions", first)["version"] == 3, "nothing differs"
        with pytest.raises(ClientError, match="no version 9"):
            cart.go_back("kept-versions", 9)
        cart.drop_job("kept-versions")
        assert cart.define_job(first)["version"] == 4, "its history stays"
        assert len(cart.job_versions("kept-versions")) == 4


def test_a_job_that_is_off_is_started_by_hand_alone(shared):
    each_new_year = {"cron": "0 5 1 1 *", "zone": "UTC"}
    shared.fresh_job("switched", {"a": b"1"}, schedule=each_new_year)
    told = shared.run("job", "off", "switched", "--why", "the office moves")
    assert "is off" in told.stderr
    with shared.client() as cart:
        job = cart.job("switched")
        assert (job["is_on"], job["switched"]["by"], job["switched"]["why"]) == (
            False,
            "admin",
            "the office moves",
        )
        assert [j["job"] for j in cart.jobs(find="switched", is_on=False)] == ["switched"]
        assert shared.carried("switched")["outcome"] == "clean"
        assert "off since" in shared.run("job", "show", "switched").stdout
        assert cart.switch_job("switched", on=True)["next_due"]
        cart.drop_job("switched")


def test_a_copy_is_off_and_the_way_back_goes_the_other_way(shared):
    shared.fresh_job("outbound", {"a": b"1"}, schedule={"cron": "30 5 * * *", "zone": "UTC"})
    with shared.client() as cart:
        turned = shared.run("job", "turn", "outbound", "outbound-back", "--json")
        assert turned.stdout, turned.stderr
        made = json.loads(turned.stdout)
        leg = cart.job("outbound")["definition"]["legs"][0]
        back = made["definition"]["legs"][0]
        assert (back["from"], back["to"]) == (leg["to"], leg["from"])
        assert (made["is_on"], made["switched"]["why"]) == (
            False,
            "A copy of outbound, not yet looked at.",
        )
        copied = cart.copy_job("outbound", "outbound-too")
        assert copied["definition"]["legs"] == cart.job("outbound")["definition"]["legs"]
        renaming = [leg | {"rename": {"pattern": "", "to": "{name}"}}]
        cart.change_job("outbound", cart.job("outbound")["definition"] | {"legs": renaming})
        with pytest.raises(ClientError, match="can't be turned round") as caught:
            cart.copy_job("outbound", "again", turned=True)
        assert caught.value.code == "job.not-to-turn"
        for name in ("outbound", "outbound-too", "outbound-back"):
            cart.drop_job(name)


def test_a_leg_that_is_off_does_nothing(shared):
    shared.fresh_job("half-off", {"a": b"1", "b": b"2"})
    with shared.client() as cart:
        definition = cart.job("half-off")["definition"]
        leg = definition["legs"][0]
        off = leg | {"to": "pine://office/half-off/off/", "switched_off": True}
        job = cart.change_job("half-off", definition | {"legs": [leg, off]})
        assert "This leg is switched off: it does nothing." in job["sentences"]
        run = cart.start("half-off")["id"]
        for _ in cart.follow(run):
            pass
        assert cart.run(run)["totals"]["copy"]["objects"] == 2
        assert not [k for k in shared.standin.shelf.buckets["half-off"] if k.startswith("off/")]
        with pytest.raises(ClientError, match="Every leg is switched off"):
            cart.change_job("half-off", definition | {"legs": [off]})


def test_jobs_are_found_sorted_and_paged_by_the_service(shared):
    for n in range(3):
        shared.fresh_job(f"sought-{n}", {"a": b"1"}, labels=["sought"], why=f"reason {n}")
    with shared.client() as cart:
        run = cart.start("sought-1")["id"]
        for _ in cart.follow(run):
            pass
        page = cart.jobs_page(label="sought", sort="job", descending=True, limit=2)
        assert ([j["job"] for j in page["jobs"]], page["total"]) == (["sought-2", "sought-1"], 3)
        rest = cart.jobs_page(label="sought", sort="job", descending=True, limit=2, skip=2)
        assert [j["job"] for j in rest["jobs"]] == ["sought-0"]
        (done,) = cart.jobs(label="sought", last="clean")
        (mark,) = done["recent"]
        assert (done["job"], mark["id"], mark["outcome"]) == ("sought-1", run, "clean")
        assert done["last_bytes"] == 1 and done["usual_s"] > 0
        assert [j["job"] for j in cart.jobs(find="reason 2")] == ["sought-2"]
        assert [j["job"] for j in cart.jobs(store="sought-0")] == ["sought-0"]
        never = [j["job"] for j in cart.jobs(label="sought", last="never")]
        assert never == ["sought-0", "sought-2"]
        (first, *_) = cart.jobs(label="sought", sort="last")
        assert first["job"] == "sought-1"
    told = shared.run("job", "list", "--find", "sought-1").stdout
    assert "✓ clean" in told and "sought-0" not in told


def test_jobs_are_kept_in_files_and_brought_in_again(shared, tmp_path):
    shared.fresh_job("in-a-file", {"a": b"1"}, why="it is kept", set_aside=0, intent="renew")
    told = shared.run("job", "export", "in-a-file", "--into", str(tmp_path))
    assert "Wrote 1 files" in told.stderr
    file = tmp_path / "in-a-file.yaml"
    same = shared.run("job", "import", str(tmp_path))
    assert (same.returncode, same.stdout) == (0, "1 as they are already.\n")
    file.write_text(file.read_text().replace("it is kept", "it was changed"))
    checked = shared.run("job", "import", str(tmp_path), "--check")
    assert checked.returncode == 1
    assert "Why it exists: it is kept → it was changed" in checked.stdout
    with shared.client() as cart:
        assert cart.job("in-a-file")["definition"]["why"] == "it is kept"
        assert shared.run("job", "import", str(tmp_path), "--yes").returncode == 0
        assert cart.job("in-a-file")["definition"]["why"] == "it was changed"
        cart.drop_job("in-a-file")


def test_a_file_is_brought_in_between_other_stores_whole_or_not_at_all(shared):
    shared.fresh_job("of-test", {"a": b"1"})
    shared.fresh_store("live-posts", {"a": b"1"})
    with shared.client() as cart:
        text = cart.export_jobs("of-test")["text"].replace("job: of-test", "job: of-live")
        bad = text + "---\njob: of-nowhere\nlegs: [{from: pine://nowhere/, to: pine://office/x/}]\n"
        with pytest.raises(ClientError, match="Document 2, of-nowhere: There is no store"):
            cart.import_jobs(bad, save=True)
        with pytest.raises(ClientError, match="names the store 'tset'") as caught:
            cart.import_jobs(text, stores={"tset": "live-posts"}, save=True)
        assert caught.value.code == "job.map-unused"
        assert not cart.jobs(find="of-live")
        (made,) = cart.import_jobs(text, stores={"of-test": "live-posts"}, save=True)["jobs"]
        assert (made["job"], made["change"]) == ("of-live", "new")
        assert cart.job("of-live")["definition"]["legs"][0]["from"] == "pine://live-posts/"
        cart.drop_job("of-live")


def test_a_table_becomes_many_jobs_and_its_bad_lines_are_named(shared, tmp_path):
    shared.fresh_store("tabled", {"a": b"1"})
    table = tmp_path / "pairs.csv"
    rows = [f"pine://tabled/p{n}/,pine://office/tabled/p{n}/,tabled-{n},owls" for n in range(3)]
    table.write_text(
        "from,to,name,labels\n" + "\n".join(rows) + "\nelsewhere,pine://office/x/,tabled-9,\n"
    )
    refused = shared.run("job", "import", str(table), "--yes")
    assert refused.returncode == 1 and "Line 5, column from: 'elsewhere' is not a" in refused.stderr
    table.write_text("from,to,name,labels\n" + "\n".join(rows) + "\n")
    told = json.loads(shared.run("job", "import", str(table), "--yes", "--json").stdout)
    assert (told["differ"], told["saved"]) == (3, True)
    with shared.client() as cart:
        names = [f"tabled-{n}" for n in range(3)]
        assert [j["job"] for j in cart.jobs(find="tabled-")] == names
        one = cart.import_jobs(
            "from,to\n" + "\n".join(r.rsplit(",", 2)[0] for r in rows), form="csv", job="tabled-all"
        )
        assert [len(j["sentences"]) > 3 for j in one["jobs"]] == [True]
        for name in names:
            cart.drop_job(name)


def ended(cart, run):
    for _ in cart.follow(run):
        pass
    return cart.run(run)


def test_a_part_of_a_job_is_done_and_the_rest_stays_for_a_whole_run(shared):
    files = {f"{folder}/{n}.csv": b"%d" % n for folder in ("north", "south") for n in range(6)}
    root, _ = shared.fresh_job("in-parts", files, intent="mirror", guards={"removals_percent": 100})
    with shared.client() as cart:
        told = shared.run("start", "in-parts", "--first", "2", "--follow", "--json")
        first = json.loads(told.stdout)
        assert first["totals"]["copy"]["objects"] == 2
        assert first["reasons"]["leave later"] == 10
        assert first["cause"] == "started by admin, only the first 2"
        below = ended(cart, cart.start("in-parts", prefix="north/")["id"])
        assert below["totals"]["copy"]["objects"] == 4
        one = ended(cart, cart.start("in-parts", only=["south/3.csv"])["id"])
        assert (one["totals"]["copy"]["objects"], one["outcome"]) == (1, "clean")
        (root / "north/0.csv").unlink()
        (root / "south/3.csv").unlink()
        ahead = cart.start_preview("in-parts", prefix="north/")["id"]
        for _ in cart.follow(ahead):
            pass
        (gone,) = cart.objects(ahead, of="previews")
        assert (gone["decision"], gone["key"]) == ("remove", "north/0.csv")
        held_back = ended(cart, cart.start("in-parts", first=1)["id"])
        assert held_back["totals"]["remove"]["objects"] == 0, "the first N are copies only"
        with pytest.raises(ClientError, match="There is no leg 2"):
            cart.start("in-parts", leg=2)
        whole = ended(cart, cart.start("in-parts")["id"])
        assert whole["held"]["lists"][0]["guard"] == "first-run", "a part is no first run"
        cart.release(whole["id"], whole["held"]["digest"])
        whole = ended(cart, whole["id"])
        assert (whole["totals"]["copy"]["objects"], whole["totals"]["remove"]["objects"]) == (4, 2)
        assert whole["far_side"]["objects"] == 10
        again = ended(cart, cart.start("in-parts")["id"])
        assert again["outcome"] == "nothing-to-do"


def words_of(explained):
    return {step["rule"]: step["words"] for step in explained["steps"]}


def test_the_youngest_file_there_is_looked_up_and_told(shared):
    leg = {"from": "pine://youngest/", "to": "pine://office/youngest/in/"}
    root, _ = shared.fresh_job(
        "youngest", {"a.csv": b"1"}, legs=[leg | {"younger_than_there": "leg"}]
    )
    with shared.client() as cart:
        (first,) = cart.explain("youngest", "a.csv")
        assert "Nothing is there yet" in words_of(first)["younger_than_there"]
        shared.carried("youngest")
        (root / "late.csv").write_bytes(b"2")
        os.utime(root / "late.csv", (1_600_000_000, 1_600_000_000))
        (late,) = cart.explain("youngest", "late.csv")
        assert (late["decision"], late["reason"]) == ("leave", "not-younger")
        assert words_of(late)["younger_than_there"] == (
            "The youngest file there is of 2023-11-14 22:13:20 UTC: leaves it out."
        )
        (carried,) = cart.explain("youngest", "a.csv")
        assert (carried["decision"], carried["reason"]) == ("leave", "same")


def test_of_each_file_it_is_told_which_rule_decided(shared):
    files = {"a.csv": b"1", "b.tmp": b"2", "large.csv": b"3" * 5000, "changed.csv": b"4"}
    root, _ = shared.fresh_job(
        "explained",
        files,
        legs=[
            {
                "from": "pine://explained/",
                "to": "pine://office/explained/in/",
                "leave_out": ["*.tmp"],
                "smaller_than": "1 KiB",
            }
        ],
    )
    with shared.client() as cart:
        (new,) = cart.explain("explained", "a.csv")
        assert (new["decision"], new["reason"]) == ("copy", "new")
        assert [s["rule"] for s in new["steps"] if s["decides"]] == ["verdict"]
        run = ended(cart, cart.start("explained")["id"])["id"]
        (same,) = cart.explain("explained", "a.csv")
        assert (same["decision"], same["reason"]) == ("leave", "same")
        assert f"last by run {run}" in words_of(same)["memory"]
        assert [(r["run"], r["decision"]) for r in same["records"]] == [(run, "copy")]
        for name, rule in (("b.tmp", "leave_out"), ("large.csv", "smaller_than")):
            (left,) = cart.explain("explained", name)
            (decided,) = [s["rule"] for s in left["steps"] if s["decides"]]
            assert (decided, left["decision"]) == (rule, "leave")
        (root / "changed.csv").write_bytes(b"44")
        (changed,) = cart.explain("explained", "changed.csv")
        assert (changed["decision"], changed["reason"]) == ("replace", "changed")
        (root / "a.csv").unlink()
        (gone,) = cart.explain("explained", "a.csv")
        assert (gone["decision"], gone["reason"]) == ("leave", "gone")
        (nowhere,) = cart.explain("explained", "never.csv")
        assert nowhere["decision"] == "" and not nowhere["records"]
        told = shared.run("explain", "explained", "b.tmp").stdout
        assert "→ leave out    *.tmp: leaves it out." in told
        ahead = cart.start_preview("explained")["id"]
        for _ in cart.follow(ahead):
            pass
        decided = {
            o["key"]: (o["decision"], o["reason"]) for o in cart.objects(ahead, of="previews")
        }
        assert decided["changed.csv"] == (changed["decision"], changed["reason"])


def test_a_job_is_looked_over_without_running_it(shared):
    root, bucket = shared.fresh_job("looked-over", {"a.csv": b"1", "b.csv": b"2"})
    with shared.client() as cart:
        cart.add_store({"name": "looked-twice", "kind": "folder", "path": str(root)})
        leg = {"from": "pine://looked-over/", "to": f"pine://office/{bucket}/in/"}
        fine = shared.run("job", "check", "looked-over")
        assert fine.returncode == 0 and "✓ Its stores answer" in fine.stdout
        codes = {}
        for name, more in {
            "shut": {"leave_out": ["**"]},
            "nothing": {"take": ["*.flac"]},
            "away": {"to": "pine://office/no-such-bucket/x/"},
        }.items():
            looked = cart.look_over_job({"job": "draft", "legs": [leg | more]})
            codes[name] = {f["code"] for f in looked["findings"] if f["is_problem"]}
        assert codes["shut"] == {"job.leaves-out-all"}
        assert codes["nothing"] == {"job.takes-nothing"}
        with pytest.raises(ClientError, match="both stores reach one place") as caught:
            cart.look_over_job({"job": "draft", "legs": [leg | {"to": "pine://looked-twice/x/"}]})
        assert caught.value.code == "job.inside-itself"
        assert len(codes["away"]) == 1
        past = {"kind": "once", "at": "2020-03-02 05:30"}
        looked = cart.look_over_job({"job": "draft", "legs": [leg], "schedule": past})
        told = {f["code"]: f["is_problem"] for f in looked["findings"]}
        assert told == {"schedule.never": True, "job.other-writes": False}


def test_a_preview_is_gathered_by_folder_and_sought(shared):
    files = {f"north/{n}/x.csv": b"1" for n in range(3)} | {"south/y.csv": b"22", "top.csv": b"3"}
    shared.fresh_job("gathered", files)
    with shared.client() as cart:
        ahead = cart.start_preview("gathered")["id"]
        for _ in cart.follow(ahead):
            pass
        folders = cart.preview_folders(ahead)
        assert [(f["key"], f["totals"]["copy"]) for f in folders] == [
            ("north/", {"objects": 3, "bytes": 3}),
            ("south/", {"objects": 1, "bytes": 2}),
        ]
        assert [f["key"] for f in cart.preview_folders(ahead, prefix="north/")] == [
            f"north/{n}/" for n in range(3)
        ]

        def keys(**wanted):
            return [o["key"] for o in cart.objects(ahead, of="previews", **wanted)]

        assert keys(level=True) == ["top.csv"]
        assert keys(level=True, prefix="south/") == ["south/y.csv"]
        assert keys(prefix="north/1") == ["north/1/x.csv"]
        assert keys(text="y.c") == ["south/y.csv"]
        assert keys(leg=2) == []
    told = shared.run("preview", "gathered", "--by-folder").stdout
    assert "north/" in told and "top.csv" in told and "x.csv" not in told


def test_a_dated_place_is_filled_in_for_each_run_which_shows_what_it_ran_by(shared):
    shared.fresh_job("dated", {"a.csv": b"1"})
    with shared.client() as cart:
        definition = cart.job("dated")["definition"]
        leg = definition["legs"][0] | {"to": "pine://office/dated/{year}/{month}/"}
        cart.change_job("dated", definition | {"legs": [leg]})
        run = ended(cart, cart.start("dated")["id"])
        now = run["queued_at"][:7].replace("-", "/")
        assert run["legs"][0]["to"] == f"pine://office/dated/{now}/"
        assert [*shared.standin.shelf.buckets["dated"]] == [f"{now}/a.csv"]
        ran_by = cart.ran_by(run["id"])
        assert (ran_by["version"], ran_by["definition"]["legs"][0]["to"]) == (
            2,
            f"pine://office/dated/{now}/",
        )
        assert "version 2" in shared.run("run", "show", str(run["id"]), "--definition").stdout
        assert cart.job("dated")["definition"]["legs"][0]["to"].endswith("{month}/")


def test_jobs_start_one_after_the_other_and_never_in_a_circle(shared):
    for name in ("chain-first", "chain-then"):
        shared.fresh_job(name, {"a": b"1"})
    with shared.client() as cart:
        then = cart.job("chain-then")["definition"]
        after = {"kind": "after", "after": "chain-first", "when": "clean"}
        made = cart.change_job("chain-then", then | {"schedule": after})
        assert made["when"] == "after each run of chain-first that ended well"
        run = ended(cart, cart.start("chain-first")["id"])
        until(lambda: cart.runs(job="chain-then"), what="the job after it")
        (started,) = cart.runs(job="chain-then")
        assert started["cause"] == f"run {run['id']} of chain-first ended: clean"
        first = cart.job("chain-first")["definition"]
        for name, code in (("chain-then", "job.after-itself"), ("nobody", "job.unknown")):
            with pytest.raises(ClientError) as caught:
                cart.change_job(
                    "chain-first", first | {"schedule": {"kind": "after", "after": name}}
                )
            assert caught.value.code == code


def test_a_job_takes_on_just_what_another_has_placed(shared):
    root, bucket = shared.fresh_job("hands-on", {"a": b"1", "in/b": b"2"})
    shared.standin.shelf.put(bucket, "in/of-others", b"x", {})
    shared.standin.shelf.make("taken-on")
    with shared.client() as cart:
        to_there = {"from": f"pine://office/{bucket}/in/", "to": "pine://office/taken-on/"}
        after = {"kind": "after", "after": "hands-on", "placed": True}
        made = cart.define_job({"job": "takes-on", "legs": [to_there], "schedule": after})
        assert made["when"] == "after each run of hands-on, of just what it placed"
        ended(cart, cart.start("hands-on")["id"])
        until(lambda: len(cart.runs(job="takes-on")) == 1, what="the job after it")
        first = ended(cart, cart.runs(job="takes-on")[0]["id"])
        assert shared.standin.shelf.keys_after("taken-on", "") == ["a", "in/b"]
        assert "of-others" not in str(cart.objects(first["id"]))
        ended(cart, cart.start("hands-on")["id"])  # which places nothing
        (root / "c").write_bytes(b"3")
        ended(cart, cart.start("hands-on")["id"])
        until(lambda: len(cart.runs(job="takes-on")) == 2, what="the second one")
        second = ended(cart, cart.runs(job="takes-on")[0]["id"])
        assert [one["key"] for one in cart.objects(second["id"])] == ["c"]
        assert "only c" in second["cause"]
