"""``make bench [ONLY=name]``: every row beside its baseline in the same run; non-zero when a bar is
missed."""

from __future__ import annotations

import sys

from bench import (
    arms,
    bodies_near,
    clearing,
    cutter_location,
    dragging,
    features,
    finishing,
    five_sides,
    keeping,
    machine_bodies,
    machines,
    many_levels,
    pocketing,
    removal,
    replay,
    seen_from_above,
    serving,
    sides,
    stock,
    turning,
    whole_plans,
)

ALL = {
    "cutter_location": cutter_location,
    "finishing": finishing,
    "clearing": clearing,
    "removal": removal,
    "stock": stock,
    "turning": turning,
    "replay": replay,
    "keeping": keeping,
    "machines": machines,
    "arms": arms,
    "bodies_near": bodies_near,
    "machine_bodies": machine_bodies,
    "sides": sides,
    "five_sides": five_sides,
    "many_levels": many_levels,
    "features": features,
    "pocketing": pocketing,
    "seen_from_above": seen_from_above,
    "serving": serving,
    "dragging": dragging,
    "whole_plans": whole_plans,
}


def main() -> int:
    """Prints the table."""
    wanted = sys.argv[1:] or list(ALL)
    missed = 0
    print(f"{'what':<66} {'value':>10} {'baseline':>20} {'ratio':>9} {'bar':>9}")
    for name in wanted:
        for row in ALL[name].rows():
            missed += not row.kept
            mark = "" if row.kept else "  MISSED"
            print(
                f"{row.what:<66} {row.value:>10} {row.baseline:>20} {row.ratio:>9.2f} {row.bar:>9}{mark}",
                flush=True,
            )
    return 1 if missed else 0


if __name__ == "__main__":
    raise SystemExit(main())
