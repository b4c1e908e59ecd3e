"""The command line answers help and mistakes at once, with an example for each command."""

from __future__ import annotations

import json
import subprocess
import sys

import pytest

from fenrik.cli import main

WEIGHTY = ("numpy", "numba", "shapely", "OCP", "pydantic", "fenrik.core")


@pytest.mark.parametrize("command", [[], ["run"], ["schema"], ["describe"], ["machine"]])
def test_help_says_what_a_command_does_with_an_example_and_loads_nothing_that_computes(command):
    code = (
        "import sys; from fenrik.cli import main\n"
        f"try: main({[*command, '--help']!r})\n"
        "except SystemExit: pass\n"
        f"print([m for m in {WEIGHTY!r} if m in sys.modules])"
    )
    run = subprocess.run([sys.executable, "-c", code], capture_output=True, text=True, check=True)
    assert run.stdout.strip().endswith("[]")
    assert f"fenrik {command[0] if command else 'run'} " in run.stdout.split("example")[1]


def test_a_wrong_command_is_refused_with_its_usage():
    wrong = [sys.executable, "-m", "fenrik.cli", "prove"]
    run = subprocess.run(wrong, capture_output=True, text=True, check=False)
    assert run.returncode == 2
    assert "invalid choice: 'prove'" in run.stderr
    assert "run" in run.stderr


def test_a_machine_is_written_as_urdf_and_read_back_for_a_job_document(tmp_path, capsys):
    assert main(["describe", "tilting_table_320", "--out", str(tmp_path / "a")]) == 0
    urdf = tmp_path / "a" / "tilting_table_320.urdf"
    assert main(["machine", str(urdf), "--out", str(tmp_path / "b")]) == 0
    said = capsys.readouterr().out
    assert "5 joints, 19 bodies" in said and "usual values" not in said
    made = json.loads((tmp_path / "b" / "machine.json").read_text("utf-8"))
    assert [j["letter"] for j in made["joints"]] == ["X", "Y", "Z", "A", "C"]
    named = [b["file"] for b in made["bodies"] if b["kind"] == "file"]
    assert named and all((tmp_path / "b" / name).is_file() for name in named)


def test_what_cannot_be_written_or_read_is_refused_with_its_reason(tmp_path, capsys):
    assert main(["describe", "no_such_mill", "--out", str(tmp_path)]) == 2
    assert "'no_such_mill' is not in the library" in capsys.readouterr().err
    wrong = tmp_path / "wrong.urdf"
    wrong.write_text("<robot name='a'/>", "utf-8")
    assert main(["machine", str(wrong), "--out", str(tmp_path)]) == 2
    assert "no link 'work_mount'" in capsys.readouterr().err
