"""Jobs in files and tables: what is written is read again, what is wrong is named by its place."""

from __future__ import annotations

import pytest

from pinecart.core.definition_reading import read_definition
from pinecart.core.differences import differences
from pinecart.core.errors import Invalid
from pinecart.core.job_files import read_yaml, with_other_stores, write_yaml
from pinecart.core.job_schema import job_schema
from pinecart.core.job_tables import read_table

LEG = {"from": "pine://posts/", "to": "pine://office/dawn/"}
RICH = {
    "job": "dawn",
    "title": "Dawn recordings",
    "why": "the office listens",
    "labels": ["owls"],
    "owner": "mara",
    "intent": "mirror",
    "set_aside": 0,
    "guards": {"removals": 5},
    "rate": "2 MiB",
    "legs": [
        {**LEG, "leave_out": ["*.tmp"], "since": "2026-03-02", "larger_than": "1 KiB"},
        {"from": "pine://posts/b/", "to": "pine://office/b/", "switched_off": True},
    ],
    "schedule": {"cron": "30 5 * * *", "zone": "Europe/London"},
}


def test_what_is_written_as_yaml_is_read_again():
    definitions = [read_definition(RICH), read_definition({"job": "dusk", "legs": [LEG]})]
    text = write_yaml(d.as_mapping() for d in definitions)
    assert "set-aside: 0" in text and "title: dusk" not in text
    again = [read_definition(given.mapping) for given in read_yaml(text)]
    assert again == definitions


def test_other_stores_take_the_place_of_those_in_the_file():
    (given,) = read_yaml(write_yaml([read_definition(RICH).as_mapping()]))
    mapped = with_other_stores(given, {"office": "live"}).mapping["legs"]
    assert [leg["to"] for leg in mapped] == ["pine://live/dawn/", "pine://live/b/"]
    assert mapped[0]["from"] == "pine://posts/"


@pytest.mark.parametrize(
    ("text", "words"),
    [
        ("job: [", "line 1, column 7: this is no YAML"),
        ("a: &x 1\nb: *x", "line 2, column 4: this is no YAML (aliases are not read)"),
        ("- job", "document 1 is no job"),
        ("[" * 5000, "no YAML"),
    ],
)
def test_what_is_no_job_file_is_named_by_its_place(text, words):
    with pytest.raises(Invalid) as caught:
        read_yaml(text)
    assert words in caught.value.message


def test_rows_of_one_name_are_legs_of_one_job_and_columns_are_values():
    table = (
        "from,to,name,labels,post\n"
        "pine://posts/{post}/,pine://office/{post}/,north,owls dawn,fell\n"
        '"pine://posts/a,b/",pine://office/c/,north,,fell\n'
        "pine://posts/{other}/,pine://office/d/,south,,\n"
    )
    north, south = read_table(table)
    assert north.mapping == {
        "job": "north",
        "labels": ["owls", "dawn"],
        "legs": [
            {"from": "pine://posts/fell/", "to": "pine://office/fell/"},
            {"from": "pine://posts/a,b/", "to": "pine://office/c/"},
        ],
    }
    assert (north.legs_at, south.where) == (("line 2", "line 3"), "line 4")
    assert south.mapping["legs"][0]["from"] == "pine://posts/{other}/"


@pytest.mark.parametrize(
    ("table", "words"),
    [
        ("from;name\nx;y", ["no column to"]),
        ("from,to\na,b", ["no name was given"]),
        ("from,to,name\na,b", ["Line 2: 2 columns, where the head has 3."]),
        ("from,to,name\n,b,n\na,,n", ["Line 2, column from: it is", "Line 3, column to: it is"]),
        ("from,to,name,why\na,b,n,x\na,c,n,y", ["Line 3, column why: 'y', where line 2 has 'x'"]),
        ("from,to,to,name\na,b,c,n", ["two columns to"]),
        ("from,to,name\n", ["no row below"]),
        ('from,to,name\n"a,b,n', ["Line"]),
    ],
)
def test_every_bad_line_of_a_table_is_named(table, words):
    with pytest.raises(Invalid) as caught:
        read_table(table)
    for word in words:
        assert word in caught.value.message


def test_what_differs_is_told_in_words():
    before = read_definition(RICH).as_mapping()
    more = read_definition({**RICH, "set_aside": 14, "schedule": None, "labels": []}).as_mapping()
    told = {d.field: (d.title, d.before, d.after) for d in differences(before, more)}
    assert told["schedule.cron"] == ("Schedule: cron", "30 5 * * *", "as usual")
    assert told["labels"] == ("Labels", "owls", "as usual")
    assert told["set_aside"][1:] == ("0", "as usual")
    assert differences(before, before) == []


def test_the_schema_knows_every_key_of_a_rich_file():
    schema = job_schema()
    (given,) = read_yaml(write_yaml([read_definition(RICH).as_mapping()]))
    known = {name.replace("-", "_") for name in schema["properties"]}
    of_legs = schema["properties"]["legs"]["items"]["properties"]
    assert given.mapping.keys() <= known
    assert {key for leg in given.mapping["legs"] for key in leg} <= {
        name.replace("-", "_") for name in of_legs
    }
    assert schema["properties"]["intent"]["enum"][0] == "top-up"
