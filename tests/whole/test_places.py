"""Looking into places, side by side; files to and from the viewer's machine; buckets; and where a
file has been.
"""

from __future__ import annotations

import io
import zipfile

import pytest

from pinecart.client import ClientError
from tests.whole.house import until


@pytest.fixture(scope="session")
def looked(shared):
    root = shared.fresh_store(
        "sidelong", {f"sheets/w{n:02}/aldermurr.csv": b"%d" % n for n in range(30)}
    )
    shared.standin.shelf.make("sidelong")
    for n in range(0, 40, 2):
        shared.standin.shelf.put(
            "sidelong", f"in/sheets/w{n:02}/aldermurr.csv", b"%d" % n * (2 if n == 4 else 1), {}
        )
    return root


def test_two_places_are_one_list_merged_by_name(shared, looked):
    found = shared.json(
        "browse", "pine://sidelong/sheets", "--beside", "pine://office/sidelong/in/sheets"
    )
    words = {e["key"]: e["word"] for e in found}
    assert len(words) == 35 and list(words) == sorted(words)
    assert (words["w04/aldermurr.csv"], words["w06/aldermurr.csv"]) == ("differs", "same-size")
    assert (words["w05/aldermurr.csv"], words["w38/aldermurr.csv"]) == ("only-here", "only-there")
    with shared.client() as cart:
        pages, after = [], ""
        while True:
            asked = {
                "here": "pine://sidelong/sheets/",
                "there": "pine://office/sidelong/in/sheets/",
                "after": after,
                "limit": 4,
            }
            told = cart.ask("GET", "sides", params=asked)
            pages += told["entries"]
            if not (after := told["next"]):
                break
    assert pages == found
    told = shared.run(
        "browse",
        "pine://sidelong/sheets",
        "--beside",
        "pine://office/sidelong/in/sheets",
        "--different",
    ).stdout
    assert "▲ differs" in told and "same size" not in told
    assert (
        "Both places are empty"
        in shared.run(
            "browse", "pine://sidelong/none", "--beside", "pine://office/sidelong/none"
        ).stderr
    )


def test_a_tree_tells_each_folder_once(shared, looked):
    lines = shared.run("browse", "pine://sidelong/sheets", "--tree").stdout.splitlines()
    assert lines[:3] == ["w00/", "  aldermurr.csv", "w01/"] and len(lines) == 60


def test_a_selection_is_saved_as_one_archive_that_is_safe_to_unpack(shared, looked, tmp_path):
    shared.standin.shelf.make("zipped")
    for key in ("in/a.csv", "in/deep/b.csv", "in/../../evil", "in/c\\d", "out"):
        shared.standin.shelf.put("zipped", key, key.encode(), {})
    with shared.client() as cart:
        body = b"".join(cart.archive("office", "zipped/in/", []))
        some = b"".join(cart.archive("office", "zipped/in/", ["deep/", "a.csv"]))
    whole = zipfile.ZipFile(io.BytesIO(body))
    assert whole.testzip() is None and sorted(whole.namelist()) == [
        "LEFT-OUT.txt",
        "a.csv",
        "deep/b.csv",
    ]
    assert whole.read("deep/b.csv") == b"in/deep/b.csv" and b"evil" in whole.read("LEFT-OUT.txt")
    assert sorted(zipfile.ZipFile(io.BytesIO(some)).namelist()) == ["a.csv", "deep/b.csv"]
    done = shared.run("browse", "pine://sidelong/sheets", "--zip", str(tmp_path / "x.zip"))
    assert done.returncode == 0 and len(zipfile.ZipFile(tmp_path / "x.zip").namelist()) == 30


def test_a_file_is_uploaded_where_nothing_is_yet(shared, looked, tmp_path):
    small, large = tmp_path / "counts.csv", tmp_path / "long.flac"
    small.write_bytes(b"1,2,3")
    large.write_bytes(bytes(range(256)) * 80_000)
    for file in (small, large):
        for place in ("pine://office/sidelong/up/", "pine://sidelong/up/"):
            done = shared.run("upload", str(file), place)
            assert done.returncode == 0, done.stderr
        assert (
            shared.standin.shelf.body("sidelong", f"up/{file.name}")
            == (looked / "up" / file.name).read_bytes()
            == file.read_bytes()
        )
    again = shared.run("upload", str(small), "pine://office/sidelong/up/counts.csv")
    assert again.returncode == 1 and "store.not-as-planned" in again.stderr
    assert shared.run("upload", str(small), "pine://sidelong/../x").returncode == 1
    assert "file.uploaded" in str(shared.json("trail", "list"))


def test_buckets_tell_who_uses_them_and_names_that_are_taken(shared, looked):
    shared.fresh_job("used-bucket", {"a": b"1"})
    shared.standin.shelf.make("empty-bucket")
    with shared.client() as cart:
        found = {b["name"]: b for b in cart.buckets("office")}
        assert found["used-bucket"]["jobs"] == ["used-bucket"] and found["empty-bucket"] == {
            "name": "empty-bucket",
            "empty": True,
            "jobs": [],
        }
        assert found["sidelong"]["empty"] is False
        shared.standin.taken = frozenset({"somebodys"})
        with pytest.raises(ClientError) as caught:
            cart.make_bucket("office", "somebodys")
        assert caught.value.code == "bucket.taken"
        run = cart.carry(
            "pine://sidelong/sheets/",
            "pine://office/new-by-carry/x/",
            take=["w00/**"],
            make_bucket=True,
        )
        until(lambda: cart.run(run["run"]["id"])["outcome"] == "clean")
        refused = cart.carry("pine://sidelong/sheets/", "pine://office/never-made/x/")["run"]["id"]
        until(lambda: cart.run(refused)["state"] == "ended")
        assert (
            cart.run(refused)["code"] == "store.no-bucket"
            and "never-made" not in shared.standin.shelf.buckets
        )


def test_a_file_is_found_with_every_run_that_touched_it(shared):
    root, job = shared.fresh_job("traced", {"w10/curlhaven-unique.csv": b"1"})
    shared.carried(job)
    (root / "w10/curlhaven-unique.csv").write_bytes(b"changed")
    shared.carried(job)
    (place,) = shared.json("find", "w10*curlhaven-uni")
    assert (place["from"], place["to"], place["key"]) == (
        "pine://traced/",
        "pine://office/traced/in/",
        "w10/curlhaven-unique.csv",
    )
    assert [(t["decision"], t["reason"]) for t in place["runs"]] == [
        ("replace", "changed"),
        ("copy", "new"),
    ]
    told = shared.run("find", "curlhaven-unique")
    assert "replace: changed" in told.stdout and told.returncode == 0
    assert "No run has touched" in shared.run("find", "nowhere-at-all").stderr
    with shared.client(shared.person("finder", "look", "owls")) as cart:
        assert cart.find("curlhaven-unique") == []


def test_a_key_of_over_a_year_is_told(shared):
    with shared.client() as cart:
        cart.add_store(
            {
                "name": "aged",
                "kind": "s3",
                "endpoint": shared.endpoint,
                "key_id": "LARKFELLKEY",
                "secret": "x",
            }
        )
    assert "over a year" not in shared.run("store", "show", "aged").stdout
    shared.sql(
        "UPDATE stores_storerecord SET secret_since = '2020-01-01 00:00:00' WHERE name = 'aged'"
    )
    assert "over a year: give a new one" in shared.run("store", "show", "aged").stdout


def test_versions_are_listed_looked_at_and_saved(shared, tmp_path):
    shared.standin.shelf.make("versions")
    shared.standin.shelf.put("versions", "a.csv", b"before any was kept", {})
    assert (
        "No versions" in shared.run("browse", "pine://office/versions/a.csv", "--versions").stderr
    )
    shared.standin.shelf.versioned.add("versions")
    shared.standin.shelf.put("versions", "a.csv", b"the second", {})
    shared.standin.shelf.delete("versions", "a.csv")
    shared.standin.shelf.put("versions", "a.csv", b"now", {})
    kept = shared.json("browse", "pine://office/versions/a.csv", "--versions")
    assert [(v["bytes"], v["is_current"], v["is_removal"]) for v in kept] == [
        (3, True, False),
        (0, False, True),
        (10, False, False),
        (19, False, False),
    ]
    second = ("pine://office/versions/a.csv", "--version", kept[2]["version"])
    assert shared.json("browse", *second, "--head")["text"] == "the second"
    assert shared.run("browse", *second, "--save", str(tmp_path / "a")).returncode == 0
    assert (tmp_path / "a").read_bytes() == b"the second"
    none = shared.run("browse", "pine://office/versions/a.csv", "--version", "none", "--head")
    assert none.returncode == 1 and "store.missing" in none.stderr


REACHED = [
    (r"\\nas.museum.example\larkfell\in\2026", "pine://found-share/2026"),
    ("//NAS.museum.example/larkfell/in/", "pine://found-share/"),
    ("https://larkfell.blob.storage.example/field/w10/x.csv?sig=a", "pine://found-blobs/w10/x.csv"),
    ("https://dav.museum.example/larkfell/a%20b/", "pine://found-dav/a b/"),
    ("sftp://sftp.museum.example/in/x", "pine://found-ssh/x"),
]


@pytest.fixture(scope="session")
def far_stores(shared):
    """Nobody asks anything of them."""
    share = {"kind": "smb", "host": "nas.museum.example", "share": "larkfell", "root": "in"}
    stores = {
        "found-share": share | {"user": "u", "password": "p"},
        "found-blobs": {
            "kind": "blob",
            "endpoint": "https://larkfell.blob.storage.example",
            "root": "field",
        },
        "found-dav": {"kind": "webdav", "url": "https://dav.museum.example/larkfell"},
        "found-ssh": {
            "kind": "sftp",
            "host": "sftp.museum.example",
            "user": "u",
            "password": "p",
            "root": "/in",
        },
    }
    with shared.client() as cart:
        for name, fields in stores.items():
            cart.add_store({"name": name} | fields)
        yield
        for name in stores:
            cart.drop_store(name)


@pytest.mark.parametrize("address, location", REACHED)
def test_an_address_of_another_machine_finds_its_store(shared, far_stores, address, location):
    assert shared.json("store", "find", address)["locations"] == [location]
    with shared.client() as cart:
        assert cart.location(f'"{address}"') == location


def test_an_address_that_no_store_reaches_is_said_without_its_secret(shared, far_stores):
    address = "https://elsewhere.storage.example/field/x?sig=made-up-secret"
    told = shared.run("store", "find", address)
    assert told.returncode == 1 and "--pasted-file" in told.stderr and not told.stdout.strip()
    with shared.client() as cart, pytest.raises(ClientError) as refused:
        cart.location(address)
    assert "made-up-secret" not in str(refused.value) and "elsewhere" in str(refused.value)
