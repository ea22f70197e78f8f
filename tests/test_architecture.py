"""The house rules: who may import whom, what the core may touch, what every room says of itself."""

import ast
import re
import subprocess
import sys
from pathlib import Path

import pytest
from tests.conftest import PROJECT

from vesk.cli.main import COMMANDS

SOURCE = PROJECT / "src" / "vesk"


def test_layers_import_only_downwards():
    lint = Path(sys.executable).with_name("lint-imports")
    done = subprocess.run([lint, "--no-cache"], cwd=PROJECT, capture_output=True, text=True, check=False)
    assert done.returncode == 0, done.stdout


def test_the_core_opens_no_file_and_reads_no_clock():
    for path in (SOURCE / "core").rglob("*.py"):
        for node in ast.walk(ast.parse(path.read_text(encoding="utf-8"))):
            if isinstance(node, ast.Call) and isinstance(node.func, ast.Name):
                assert node.func.id not in {"open", "print", "input", "exec", "eval"}, f"{path}:{node.lineno}"
            if isinstance(node, ast.Global):
                raise AssertionError(f"{path}:{node.lineno} has global state")


@pytest.mark.parametrize(
    "room", ["core", "media", "store", "simulator", "dailies", "actions", "jobs", "services", "cli", "web"]
)
def test_every_room_says_what_lives_there(room):
    text = (SOURCE / room / "README.md").read_text(encoding="utf-8")
    assert "may import" in " ".join(text.split())


def test_every_command_is_in_the_readme():
    text = (PROJECT / "README.md").read_text(encoding="utf-8")
    assert [name for name in COMMANDS if f"./vesk {name}" not in text] == []


def test_every_printed_field_is_documented():
    text = (PROJECT / "docs" / "formats.md").read_text(encoding="utf-8")
    from vesk.core.facts import Facts
    from vesk.dailies.report_lines import COLUMNS

    fields = {
        "decision",
        "offset_s",
        "offset_frames",
        "ppm",
        "jumps",
        "uncertainty_s",
        "evidence",
        "verdict",
        "unpaired",
    }
    missing = [name for name in (*fields, *COLUMNS, *Facts.__slots__) if f"`{name}`" not in text]
    assert missing == []


def test_pictures_of_the_readme_are_there():
    text = (PROJECT / "README.md").read_text(encoding="utf-8")
    linked = re.findall(r"\((docs/screenshots/[^)]+)\)", text)
    assert linked
    assert [name for name in linked if not (PROJECT / name).exists()] == []


def test_locks_hold_hashes_and_no_address():
    for name in ("requirements.txt", "requirements-dev.txt", "requirements-tools.txt"):
        text = (PROJECT / name).read_text(encoding="utf-8")
        assert "--hash=sha256:" in text
        assert not re.search(r"https?:|--index|--find-links", text)
