"""The command line: runs job documents with no server and no database."""

from __future__ import annotations

import argparse
import sys
from pathlib import Path
from typing import Any

# What computes is imported by the command that computes: help and mistakes are answered at once.

FOOT = """examples:
  fenrik run examples/bearing_bracket.yaml --out out/bracket
  fenrik schema > job.schema.json
  fenrik describe tilting_table_320 --out out/machine
  fenrik machine out/machine/tilting_table_320.urdf --out out/own

exit codes: 0 fine, 2 wrong input, 3 the proof found a stop, 1 anything else"""
RUN = """Reads the part, computes every toolpath, proves every release and writes to the folder:
the programs as they are proved, tools.json, report.json with times, deviation and findings.
A program is written also where the proof found a stop, with exit code 3: do not run it then."""
RUN_FOOT = """example:
  fenrik run examples/bearing_bracket.yaml --out out/bracket"""
SCHEMA = """Prints the JSON Schema of the job document, for editors and for checks in version control."""
SCHEMA_FOOT = """example:
  fenrik schema > job.schema.json"""
DESCRIBE = """Writes a machine of the library, or of a job document, as URDF with its meshes into a folder."""
DESCRIBE_FOOT = """example:
  fenrik describe tilting_table_320 --out out/machine"""
MACHINE = """Reads a machine from URDF and writes it to a folder as machine.json, one entry of `machines` in a
job document, with the files that its bodies name beside it."""
MACHINE_FOOT = """example:
  fenrik machine out/machine/tilting_table_320.urdf --out out/own"""


def main(arguments: list[str] | None = None) -> int:
    """Runs a command; returns the exit code: 0 fine, 2 wrong input, 3 a stop finding, 1 anything else."""
    chosen = _parser().parse_args(arguments)
    if chosen.command == "schema":
        from fenrik.core.job.document.reading import schema_text

        sys.stdout.write(schema_text())
        return 0
    if chosen.command == "run":
        return _run(chosen.job, chosen.out, chosen.quiet)
    from fenrik.machine_files import describe, take_in

    if chosen.command == "describe":
        return describe(chosen.machine, chosen.job, chosen.out)
    return take_in(chosen.file, chosen.out)


def _parser() -> argparse.ArgumentParser:
    as_written = argparse.RawDescriptionHelpFormatter
    parser = argparse.ArgumentParser(
        prog="fenrik",
        description="From a solid model to a proved milling program: computes, proves and posts a job "
        "document with no server\nand no database.",
        epilog=FOOT,
        formatter_class=as_written,
    )
    commands = parser.add_subparsers(dest="command", required=True, metavar="command")

    def command(name: str, short: str, words: str, foot: str) -> argparse.ArgumentParser:
        return commands.add_parser(
            name, help=short, description=words, epilog=foot, formatter_class=as_written
        )

    run = command("run", "compute, prove and post a job document", RUN, RUN_FOOT)
    run.add_argument("job", type=Path, help="the job document (YAML or JSON)")
    run.add_argument("--out", type=Path, required=True, help="folder for programs, tools.json, report.json")
    run.add_argument("--quiet", action="store_true", help="show no progress")
    command("schema", "print the JSON Schema of the job document", SCHEMA, SCHEMA_FOOT)
    written = command("describe", "write a machine as URDF", DESCRIBE, DESCRIBE_FOOT)
    written.add_argument("machine", help="the machine's id")
    written.add_argument("--job", type=Path, help="the job document that has it")
    written.add_argument("--out", type=Path, required=True, help="folder for the URDF file and its meshes")
    read = command("machine", "read a machine from URDF", MACHINE, MACHINE_FOOT)
    read.add_argument("file", type=Path, help="the URDF file")
    read.add_argument("--out", type=Path, required=True, help="folder for machine.json and its files")
    return parser


def _run(path: Path, out: Path, quiet: bool) -> int:
    from fenrik.core.errors import FenrikError, InputError
    from fenrik.core.job.document.reading import load_job
    from fenrik.core.job.opening import open_job
    from fenrik.core.job.report import run_job
    from fenrik.core.job.workspace.artefacts import MemoryStore
    from fenrik.core.progress import Progress

    shown = sys.stderr.isatty() and not quiet

    def show(fraction: float, words: str) -> None:
        if shown:
            sys.stderr.write(f"\r{100 * fraction:5.1f} %  {words:<60.60}")
            sys.stderr.flush()

    try:
        paths = open_job(load_job(path), path.resolve().parent, MemoryStore())
        report = run_job(paths, out, Progress(show))
    except InputError as error:
        print(f"\n{error.message}" if shown else error.message, file=sys.stderr)
        return 2
    except FenrikError as error:
        print(f"\n{error.message}" if shown else error.message, file=sys.stderr)
        return 1
    except OSError as error:
        print(f"The folder '{out}' cannot be written: {error}. Choose another with --out.", file=sys.stderr)
        return 1
    if shown:
        sys.stderr.write("\r" + " " * 72 + "\r")
    _summary(report)
    return 3 if report["stops"] else 0


def _summary(report: dict[str, Any]) -> None:
    for setup in report["setups"]:
        for o in setup["operations"]:
            print(
                f"{setup['name']}: {o['name']}, T{o['tool']}, {o['moves']} moves,"
                f" {o['cutting_length_mm'] / 1000:.2f} m, {o['time_s'] / 60:.1f} min"
            )
    deviation = report["deviation"]
    print(
        f"overcut {deviation['max_overcut_mm']:.4f} mm, leftover {deviation['max_leftover_mm']:.3f} mm,"
        f" {100 * deviation['share_within_tolerance']:.1f} % of the surface on size"
    )
    for finding in report["findings"]:
        print(f"{finding['severity']}: {finding['words']} {finding['remedy']}")


if __name__ == "__main__":
    raise SystemExit(main())
