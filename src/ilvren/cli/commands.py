"""The list of commands: what each does in one line, and the file it lives in. Nothing is imported here."""

from __future__ import annotations

__all__ = ["COMMANDS", "GROUPS"]

# Command → (module, summary), in the order an engineer works.
COMMANDS: dict[str, tuple[str, str]] = {
    "demo": ("demo", "copy a demo and run a whole example, explaining every step"),
    "new": ("new", "write a commented starter problem"),
    "show": ("show", "what is asked: sizes, names, values at the baseline, findings"),
    "check": ("check", "derivatives, scaling, conflicts, domains and units, before any run"),
    "locate": ("locate", "where numbers stand in decks and listings, as entries to paste"),
    "draw": ("draw", "curves, contours, surfaces and slices, with limits, extremes and paths"),
    "simulate": ("simulate", "a design over time: its signals as a table, a file or a figure"),
    "sample": ("sample", "the designs of a plan, or your own, evaluated: before any search, or instead of one"),
    "sensitivity": ("sensitivity", "what drives what: at a design, over the box, or over designs on record"),
    "scatter": ("scatter", "how a design fares when it is not made exactly, and what drives its misses"),
    "approximate": ("approximate", "surfaces in place of models, with what they get wrong, to search on"),
    "run": ("run", "run a method on a problem"),
    "contest": ("contest", "several methods, starts and seeds side by side, as one group"),
    "resume": ("resume", "continue an interrupted, killed or exhausted run, or a contest"),
    "runs": ("runs", "list the recorded runs"),
    "designs": ("designs", "every design that runs evaluated: ranked, filtered, as a table, a page or a figure"),
    "compare": ("compare", "set runs and groups side by side: tables, histories, tests"),
    "verify": ("verify", "judge whether a run's design, or any other, really is an optimum"),
    "propose": ("propose", "the smallest move that derivatives say gives a change, and what stands in the way"),
    "apply": ("apply", "write a design into decks, into starts, or into another problem's parameters"),
    "diagnose": ("diagnose", "why a run did not end well: missed and conflicting limits, scaling, what to try"),
    "report": ("report", "one page: runs or a contest with verdicts, a front, a sweep, or samples and approximations"),
    "export": ("export", "write a run's history, or a contest's runs, as CSV or JSON"),
    "methods": ("methods", "list the methods, what they need and handle"),
    "completion": ("completion", "what a shell needs to complete commands, flags, files, methods and runs"),
}
GROUPS = {
    "Begin": ("demo", "new", "completion"),
    "Look": ("show", "check", "locate", "draw", "simulate"),
    "Explore": ("sample", "sensitivity", "approximate", "scatter"),
    "Run": ("run", "contest", "resume", "runs", "methods"),
    "Improve": ("propose", "apply"),
    "Judge": ("designs", "compare", "verify", "diagnose", "report", "export"),
}
