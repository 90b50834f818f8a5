"""Takes the pictures in this folder from a running demo:

`make screenshots`. Terminal ones are drawn from real output.
"""

from __future__ import annotations

import os
import shlex
import subprocess
import sys
from pathlib import Path

from playwright.sync_api import Page, sync_playwright
from rich.console import Console
from rich.text import Text

HERE = Path(__file__).parent
FLAGS = [
    "--no-sandbox",
    "--disable-gpu",
    "--disable-quic",
    "--no-first-run",
    "--disable-background-networking",
    "--disable-component-update",
    "--disable-sync",
    "--disable-dev-shm-usage",
]
COMMANDS = {
    "terminal-today": ["", "run list", "schedule list"],
    "terminal-carry": [
        "browse pine://posts/ --match 'sheets/**/a*.csv'",
        (
            "carry pine://posts/sheets/2026-W10 pine://office/larkfell/weekly/ --leave-out 'a*' "
            "--rename-to '{year}-{name}{ending}' --preview"
        ),
    ],
    "terminal-run": [
        "start dawn-recordings --follow",
        "run objects {last}",
        "explain field-notes warden.txt",
    ],
}


def pinecart(words: str) -> str:
    env = os.environ | {"COLUMNS": "120"}
    done = subprocess.run(
        [sys.executable, "-m", "pinecart.cli.main", *shlex.split(words)],
        stdout=subprocess.PIPE,
        stderr=subprocess.STDOUT,
        text=True,
        env=env,
        check=False,
    )
    return done.stdout


def draw(page: Page, name: str, commands: list[str]) -> None:
    """A terminal's picture, from what the commands really print."""
    console = Console(record=True, width=120, file=open(os.devnull, "w"))  # noqa: SIM115 - for the life of this script
    for words in commands:
        text = (
            words.format(
                last=pinecart("--json run list --limit 1").split('"id": ')[1].split(",")[0]
            )
            if "{last}" in words
            else words
        )
        console.print(Text(f"$ pinecart {text}".rstrip(), style="bold"))
        console.print(Text.from_ansi(pinecart(text)))
    page.set_content(f'<body style="margin:0">{console.export_svg(title="pinecart")}</body>')
    page.locator("svg").first.screenshot(path=HERE / f"{name}.png")


def pages(page: Page, url: str, shots: dict[str, str]) -> None:
    for name, path in shots.items():
        page.goto(url + path)
        page.wait_for_load_state("load")
        page.get_by_label("Loading").first.wait_for(state="detached")
        page.wait_for_timeout(4000 if name == "define" else 1500)
        page.screenshot(path=HERE / f"{name}.png")


def main(url: str, password: str) -> None:
    with sync_playwright() as play:
        browser = play.chromium.launch(executable_path="/usr/bin/chromium", args=FLAGS)
        terminal = browser.new_page(viewport={"width": 1280, "height": 800})
        for _ in range(6):  # so that there is a history
            pinecart("demo arrive")
            pinecart("start dawn-recordings --follow")
        pinecart("demo arrive")
        pinecart("person add wren --right operate --label survey")
        pinecart("person add dunlin --right look")
        pinecart("person change dunlin --right define --label analysts")
        for name, commands in COMMANDS.items():
            draw(terminal, name, commands)
        last = (
            pinecart("--json run list --state clean --job dawn-recordings --limit 1")
            .split('"id": ')[1]
            .split(",")[0]
        )
        ahead = pinecart("--json preview ridge-mirror").split('"id": ')[1].split(",")[0]
        pinecart("job change partner-copy --every '6 hours'")
        pinecart("remove pine://office/larkfell/dawn/pictures/")
        counted = pinecart("--json inventory pine://office/larkfell/")
        counted = counted.split('"id": ')[1].split(",")[0]
        held = pinecart("--json run list --job remove --limit 1").split('"id": ')[1].split(",")[0]
        for scheme, width, shots in (
            (
                "light",
                1280,
                {
                    "today": "/",
                    "jobs": "/jobs",
                    "job": "/jobs/dawn-recordings",
                    "define": "/jobs/letters/change",
                    "run": f"/runs/{last}",
                    "stores": "/stores",
                    "browse": "/stores/office?path=larkfell/dawn/sheets/",
                    "preview": f"/previews/{ahead}",
                    "schedule": "/schedule",
                    "copy": "/copy?from=pine%3A%2F%2Fposts%2Fsheets%2F",
                    "history": "/history",
                    "inventory": f"/inventories/{counted}?folder=dawn%2Frecordings%2F",
                    "find": "/find?name=W10*aldermurr",
                    "trail": "/trail?what=person",
                    "report": f"/api/v1/runs/{last}/report?as=html",
                },
            ),
            ("light", 390, {"held-narrow": f"/runs/{held}"}),
        ):
            context = browser.new_context(
                viewport={"width": width, "height": 800},
                color_scheme=scheme,
                reduced_motion="reduce",
            )
            page = context.new_page()
            page.goto(url)
            page.get_by_label("Name").fill("admin")
            page.get_by_label("Password").fill(password)
            page.get_by_role("button", name="Sign in").click()
            page.get_by_role("button", name="Sign out").wait_for()
            pages(page, url, shots)
        pinecart(f"run decline {held} --why 'only for its picture'")
        browser.close()


if __name__ == "__main__":
    main(sys.argv[1], sys.argv[2])
