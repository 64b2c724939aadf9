"""The documents tell the truth: commands, options, links and words."""

from __future__ import annotations

import json
import os
import re
import runpy
import shlex
import subprocess
import sys
from functools import cache
from pathlib import Path

import pytest

import within
from zoompick.judge import tell
from zoompick.scenes.finding import Finding

ROOT = Path(__file__).parents[1]
README = (ROOT / "README.md").read_text()
GUIDE = (ROOT / "docs" / "guide.md").read_text()
PAGES = [ROOT / "README.md", ROOT / "CHANGELOG.md", *sorted((ROOT / "docs").glob("*.md"))]
GROUPS = {"area", "source", "pick", "standin", "order", "tiles"}


@pytest.fixture(scope="module")
def help_of(tmp_path_factory):
    """What the program says of a command."""
    folder = tmp_path_factory.mktemp("help")

    @cache
    def told(*words: str) -> str:
        return within.run([*words, "--help"], folder, "", dict(os.environ))[1]

    return told


def shown_commands() -> list[str]:
    """Every call of the program in the blocks of the README and of the guide."""
    blocks = re.findall(r"```console\n(.*?)```", README + GUIDE, re.DOTALL)
    lines = [line[2:] for block in blocks for line in block.splitlines() if line.startswith("$ ")]
    calls = [part.strip() for line in lines for part in line.split("|")] + re.findall(r"`(zoompick [^`]+)`", GUIDE)
    return list(dict.fromkeys(call for call in calls if call.startswith("zoompick ")))


@pytest.mark.parametrize("call", shown_commands())
def test_commands_shown_have_the_options_they_are_shown_with(call, help_of):
    words = shlex.split(call, comments=True)[1:]
    name = words[:2] if words[0] in GROUPS and len(words) > 1 and words[1].isalpha() else words[:1]
    text = help_of(*name)
    assert "Usage:" in text
    for option in re.findall(r"(?<!\S)--[a-z-]+", call):
        assert option in text, f"{option} in {call}"


def test_the_first_block_holds_the_two_commands():
    first = re.search(r"```\n(.*?)\n```", README, re.DOTALL)[1].splitlines()
    assert first == ["pip install . && zoompick demo", "pip install '.[test]' && pytest"]
    assert README.index("```console") < README.index("docs/screenshots/")


@pytest.mark.slow
def test_the_session_shown_is_what_the_program_says(demo, program):
    """The figures of the README's session come from real runs; its lines must be found again."""
    session = re.search(r"```console\n(\$ zoompick demo.*?)```", README, re.DOTALL)[1]
    first, _, second = session.partition("$ cd zoompick-demo && zoompick ")
    words, _, shown = second.partition("\n")
    for lines, real in ((first, demo[1]), (shown, program(*words.split(), cwd=demo[0]))):
        said = " ".join((real.out + real.err).split())
        assert real.code == 0 and len(lines.splitlines()) > 4
        for line in lines.splitlines():
            told = re.sub(r"\s+", " ", line).strip(" …")
            if told and not line.startswith("$") and "─" not in line:
                assert told.replace("zoompick-demo", "fen").replace("All lies in fen.", "").strip() in said, line


def test_the_lines_for_python_run(tmp_path, archive):
    """Ten lines from a search to an array, as the README shows them; the tutorial's are held against the types."""
    code = re.search(r"```python\n(.*?)```", README, re.DOTALL)[1].replace("http://127.0.0.1:8638", archive)
    assert len(code.splitlines()) <= 11
    (tmp_path / "lines.py").write_text(code)
    done = subprocess.run([sys.executable, "lines.py"], cwd=tmp_path, capture_output=True, text=True)
    assert re.fullmatch(r"\(1, \d+, \d+\) fen\.tif\npass\n", done.stdout), done.stderr
    assert done.stderr == ""
    assert '"docs/tutorial.py"' in (ROOT / "pyproject.toml").read_text(), "mypy reads it as somebody's own program"


@pytest.mark.parametrize("page", PAGES, ids=lambda page: page.name)
def test_links_lead_somewhere(page):
    for target in re.findall(r"\]\(([^)#]+)\)", page.read_text()):
        if not target.startswith("http"):
            assert (page.parent / target).exists(), target


@pytest.mark.parametrize("page", PAGES, ids=lambda page: page.name)
def test_pages_name_no_machine_and_no_other_place(page):
    text = page.read_text()
    assert not re.search(r"/(home|root|work|tmp|Users)/", text)
    assert not [host for host in re.findall(r"https?://([^/\s)`'\"]+)", text) if not host.startswith("127.0.0.1")]


def test_help_says_what_each_option_takes(help_of):
    for name in ("search", "download", "stack", "clip", "composite", "index", "verify", "run", "new"):
        text = help_of(name)
        assert re.search(r"--json|--area|--dates", text), name
        assert text.count("--help") == 1
        assert not re.search(r"<\w+(\[|>)|\[\[|\]\.\.\.", text), text


@pytest.mark.slow
def test_the_readme_can_be_pasted_from_top_to_bottom(tmp_path, archive, demo, launcher):
    """Every block in order, from an empty folder, with the archive up; the log-in's password is typed.

    The first line was carried out before: its study is put where it would make it.
    """
    blocks = re.findall(r"```console\n(.*?)```", README, re.DOTALL)
    lines = [line[2:] for block in blocks for line in block.splitlines() if line.startswith("$ ")]
    assert lines[0] == "zoompick demo"
    lines[0] = f"cp -r {shlex.quote(str(demo[0]))} zoompick-demo"
    text = "\n".join(["set -euo pipefail", f'zoompick() {{ {launcher.command()} "$@"; }}', *lines])
    (tmp_path / "paste").write_text(text.replace("http://127.0.0.1:8638", archive))
    (tmp_path / "empty").mkdir()
    done = subprocess.run(
        ["bash", "../paste"], cwd=tmp_path / "empty", input="ostrell\n", capture_output=True, text=True, timeout=500
    )
    assert done.returncode == 0, done.stdout[-2000:] + done.stderr[-2000:]
    made = {str(path.relative_to(tmp_path / "empty")) for path in (tmp_path / "empty").rglob("*.tif")}
    assert {"fen.tif", "fen-ndvi.tif", "fen/products/2025-12-15/natural.tif"} <= made
    assert [name for name in made if name.startswith("sluice/scenes/") and "gannet-vhr" in name]


def options_of_all() -> dict[str, set[str]]:
    """Options of each command, groups' own commands among them."""
    script = runpy.run_path(str(ROOT / "scripts" / "reference.py"))
    return {
        name: {word for param in command.params for word in param.opts if word.startswith("--")}
        for name, _, command in script["commands"]()
    }


def test_every_command_shows_an_example_that_has_its_options(program):
    examples = json.loads((ROOT / "src/zoompick/cli/data/examples.json").read_text())
    leaves = options_of_all()
    assert examples.keys() == leaves.keys()
    for name, lines in examples.items():
        for line in lines:
            assert set(re.findall(r"(?<!\S)--[a-z-]+", line)) <= leaves[name] | {"--help"}, line
    assert "Examples:\n  zoompick scene 3\n" in program("scene", "--help").out


def test_the_page_on_checks_is_that_of_the_registry():
    script = runpy.run_path(str(ROOT / "scripts" / "checks.py"))
    assert script["PAGE"].read_text() == script["page"]()
    shape = re.search(r"```json\n(.*?)```", (ROOT / "docs" / "json.md").read_text(), re.DOTALL)[1]
    told = json.loads(shape)
    assert set(told) == set(tell.findings_json([])) and set(told["findings"][0]) == set(Finding.__dataclass_fields__)


def test_the_reference_is_that_of_the_commands():
    script = runpy.run_path(str(ROOT / "scripts" / "reference.py"))
    assert script["PAGE"].read_text() == script["page"]()
    manual = script["MANUAL"].read_text()
    assert manual == script["manual"]() and manual.isascii()
    for name, options in options_of_all().items():
        assert f"zoompick {name} " in script["PAGE"].read_text()
        for option in options:
            assert option in script["PAGE"].read_text() and option.replace("-", "\\-") in manual


@pytest.mark.slow
def test_the_tutorial_runs_and_finds_what_was_planted(tmp_path, archive):
    """The sluice was rebuilt between its two summers: the ground got wetter, not drier."""
    words = [sys.executable, str(ROOT / "docs" / "tutorial.py"), archive]
    done = subprocess.run(words, cwd=tmp_path, capture_output=True, text=True)
    assert done.returncode == 0 and done.stderr == "", done.stderr
    ha = {name.strip(): float(told) for name, told in re.findall(r"(?m)^(\D+?\d)? +([\d.]+) ha$", done.stdout)}
    assert ha["now above 0"] > 20 * ha["no longer above 0"] > 0, done.stdout
    assert "fail" not in done.stdout and (tmp_path / "water.png").stat().st_size > 20_000


def test_the_citation_is_of_this_version():
    from zoompick import __version__

    cited = (ROOT / "CITATION.cff").read_text()
    assert f"version: {__version__}\n" in cited and f"(version {__version__})" in (ROOT / "docs/index.md").read_text()
