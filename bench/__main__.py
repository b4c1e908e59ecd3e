"""Runs all benchmarks and prints a row each: what, figure, baseline, ratio."""

from __future__ import annotations

from bench import cutter_location, removal

if __name__ == "__main__":
    print(f"{'what':<58}{'figure':>16}{'baseline':>18}{'ratio':>9}")
    for module in (cutter_location, removal):
        for what, figure, baseline, ratio in module.rows():
            print(f"{what:<58}{figure:>16}{baseline:>18}{ratio:>9.3g}", flush=True)
