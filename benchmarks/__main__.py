"""Run all benchmarks and print their ratios against the limits that are claimed."""

from __future__ import annotations

from benchmarks import (
    approximating,
    collocating,
    costly,
    derivatives,
    evaluation,
    exploring,
    fronts,
    judging,
    looking,
    over_time,
    process,
    programs,
    scattering,
    searching,
    solving,
)

if __name__ == "__main__":
    for module in (
        process,
        evaluation,
        derivatives,
        solving,
        looking,
        programs,
        over_time,
        collocating,
        exploring,
        approximating,
        costly,
        fronts,
        scattering,
        searching,
        judging,
    ):
        module.main()
