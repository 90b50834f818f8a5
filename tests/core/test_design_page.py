"""The page that shows the way of one object names what is there."""

from __future__ import annotations

import json
import os
import re
import subprocess
import sys
from pathlib import Path

PAGE = Path("docs/design.md").read_text()
SECTION = PAGE[PAGE.index("## 4. Flow of one object") : PAGE.index("## 5. Life of a run")]
NAMES = re.findall(r"`((?:core|runner|service|drivers)\.[\w.]+)`", SECTION)
LOOK = """
import importlib, json, sys
import django
django.setup()
missing = []
for name in json.loads(sys.argv[1]):
    parts = ["pinecart", *name.split(".")]
    for end in range(len(parts), 1, -1):
        try:
            what = importlib.import_module(".".join(parts[:end]))
        except ModuleNotFoundError:
            continue
        for part in parts[end:]:
            what = getattr(what, part, None)
        break
    missing += [] if what else [name]
print(json.dumps(missing))
"""


def test_each_name_on_the_way_of_an_object_exists(tmp_path):
    """In a process of its own, since the service's modules want a state folder of theirs."""
    settings = "pinecart.service.config.settings"
    env = os.environ | {"PINECART_DATA": str(tmp_path), "DJANGO_SETTINGS_MODULE": settings}
    asked = [sys.executable, "-c", LOOK, json.dumps([*NAMES, "runner.leg.no_such_name"])]
    assert json.loads(subprocess.check_output(asked, env=env)) == ["runner.leg.no_such_name"]
    assert len(NAMES) > 20
