"""The command line answers help and mistakes at once, with an example for each command."""

from __future__ import annotations

import subprocess
import sys

import pytest

WEIGHTY = ("numpy", "numba", "shapely", "OCP", "pydantic", "fenrik.core")


@pytest.mark.parametrize("command", [[], ["run"], ["schema"]])
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
