"""Write the pages that the code itself knows best: a page per method, the commands, the words for results.

`make docs` writes them; a test fails when one is no longer what this prints.
"""

from __future__ import annotations

import argparse
import importlib
import inspect
import sys
from dataclasses import fields
from pathlib import Path

from ilvren.cli.commands import COMMANDS
from ilvren.cli.main import overview
from ilvren.cli.parsers import parser_of
from ilvren.dynamics.schemes import DEFAULT_SCHEME, SCHEMES
from ilvren.judge.fronts.verification import FRONT_MEANINGS, PROVED
from ilvren.judge.standing.verdict import HOLDING, MEANINGS
from ilvren.methods.base import method_named, method_names
from ilvren.methods.pieces.options import describe
from ilvren.plans import plan_named, plan_names
from ilvren.runs.result import HOLDS, OUTCOMES
from ilvren.version import __version__

HERE = Path(__file__).parent
NOTICE = "<!-- Written by docs/generate.py; change the code it describes instead. -->\n"


STATUSES = (
    (0, "what was asked holds, or a listing was printed"),
    (1, "it ran, and what was asked does not hold"),
    (2, "the request or a file is wrong"),
    (3, "a bug in Ilvren"),
    (4, "the machine failed: a full disk, a locked ledger"),
    (130, "interrupted"),
    (143, "terminated"),
)


def pages() -> dict[str, str]:
    """Return {path below docs/: text} of every generated page."""
    made = {
        "commands.md": commands_page(),
        "words.md": words_page(),
        "methods/README.md": methods_page(),
        "plans.md": plans_page(),
        "ilvren.1": manual_page(),
    }
    made["schemes/README.md"] = schemes_page()
    for name in SCHEMES:
        made[f"schemes/{name}.md"] = scheme_page(name)
    for name in method_names():
        made[f"methods/{name}.md"] = method_page(name)
    return made


def commands_page() -> str:
    """Return the page of all commands: their arguments, from the declarations that `--help` prints."""
    parts = [NOTICE, "# Commands\n", "```text", overview().rstrip(), "```\n"]
    for name, (_, summary) in COMMANDS.items():
        parser = parser_of(name)
        parts += [f"## {name}\n", f"{summary[:1].upper()}{summary[1:]}.\n", "| argument | meaning |", "|---|---|"]
        parts += [
            f"| {argument_words(action)} | {action.help} |" for action in parser._actions if action.dest != "help"
        ]
        parts += ["", "```text", (parser.epilog or "").rstrip(), "```\n"]
    return "\n".join(parts)


def manual_page() -> str:
    """Return the page for `man ilvren`: what stands in `--help`, of all commands."""

    def plain(text: str) -> str:
        text = text.replace("\\", "\\(rs").replace("-", "\\-").replace("'", "\\(aq")
        return "\n".join(f"\\&{line}" if line.startswith((".", "'")) else line for line in text.splitlines())

    lines = [
        f'.\\" {NOTICE.strip()[5:-4]}', f'.TH ILVREN 1 "" "Ilvren {__version__}" "User commands"', ".SH NAME",
        "ilvren \\- define, look at, optimize and verify nonlinear design problems", ".SH SYNOPSIS",
        ".B ilvren", ".I COMMAND", "[\\fIarguments\\fR]", ".br", ".B ilvren \\-\\-help", "|", ".B \\-\\-version",
    ]  # fmt: skip
    lines += [".SH COMMANDS"]
    for name, (_, summary) in COMMANDS.items():
        parser = parser_of(name)
        lines += [f".SS ilvren {name}", plain(f"{summary[:1].upper()}{summary[1:]}.")]
        for action in parser._actions:
            if action.dest in ("help", "quiet", "no_color", "json"):
                continue
            value = str(action.metavar or "")
            head = " ".join([*(f"\\fB{plain(flag)}\\fR" for flag in action.option_strings), f"\\fI{plain(value)}\\fR"])
            lines += [".TP", head.replace("\\fI\\fR", "").strip(), plain(action.help or "")]
        lines += [".PP", ".nf", plain((parser.epilog or "").rstrip()), ".fi"]
    lines += [
        ".SH COMMON OPTIONS", ".TP", "\\fB\\-\\-json\\fR", "print one JSON document instead of tables", ".TP",
        "\\fB\\-\\-quiet\\fR", "no progress and no notes", ".TP", "\\fB\\-\\-no\\-color\\fR", "no colours",
        ".SH EXIT STATUS",
    ]  # fmt: skip
    for number, what in STATUSES:
        lines += [".TP", f"\\fB{number}\\fR", plain(what)]
    lines += [".SH ENVIRONMENT", ".TP", "\\fBILVREN_LEDGER\\fR", plain("the ledger, instead of ilvren.ledger here"),
              ".TP", "\\fBCOLUMNS\\fR", plain("how wide tables may be, in pipes, too"),
              ".TP", "\\fBNO_COLOR\\fR", "no colours where it is set"]  # fmt: skip
    return "\n".join(lines) + "\n"


def argument_words(action: argparse.Action) -> str:
    """Return how an argument is written, such as `--set NAME=VALUE`."""
    value = action.metavar or ("|".join(action.choices) if action.choices else "")
    words = [*action.option_strings[:1], *([str(value)] if value else [])]
    many = " …" if action.nargs == "+" else ""
    # A vertical bar would end the table's cell.
    return f"`{' '.join(words)}{many}`".replace("|", "` or `") + (" (optional)" if action.nargs == "?" else "")


def words_page() -> str:
    """Return the page of outcome and verdict words."""
    lines = [NOTICE, "# The words for results\n", "## Outcome of a run\n"]
    lines += ["| outcome | what it means | exit status |", "|---|---|---|"]
    for word, meaning in OUTCOMES.items():
        status = 0 if word in HOLDS else (130 if word == "interrupted" else 1)
        lines.append(f"| `{word}` | {meaning} | {status} |")
    lines += ["\n## Verdict of `verify`\n", "The first that the checks bear out:\n"]
    lines += ["| verdict | what it means | holds |", "|---|---|---|"]
    for word, meaning in MEANINGS.items():
        holds = "yes" if word in HOLDING else ("with `--accept-probe`" if word == "probe-only" else "no")
        lines.append(f"| `{word}` | {meaning} | {holds} |")
    lines += ["\n## Verdict on fronts, beside these\n", "| verdict | what it means | holds |", "|---|---|---|"]
    for word, meaning in FRONT_MEANINGS.items():
        lines.append(f"| `{word}` | {meaning} | {'yes' if word == PROVED else 'no'} |")
    return "\n".join(lines) + "\n"


def methods_page() -> str:
    """Return the table of all methods."""
    lines = [NOTICE, "# Methods\n", "| method | kind | needs | handles | variables | cost | weak on |"]
    lines.append("|---|---|---|---|---|---|---|")
    for name in method_names():
        facts = describe(method_named(name))
        handles = facts["handles"]
        assert isinstance(handles, list)
        lines.append(
            f"| [`{name}`]({name}.md) | {facts['kind']} | {facts['needs']} | {', '.join(handles)}"
            f" | up to {facts['most_variables'] or 'any'} | {facts['cost']} | {facts['weak']} |"
        )
    lines += [
        "\nAll methods see a scaled problem: variables divided by their sizes (rounded to powers of two), rows and",
        "objective by their first derivatives at the start. `--no-scaling` gives them the numbers as written; the",
        "factors used are in the JSON document under `settings.scaling`.",
        "What a run reports is always measured on the problem as written.",
    ]
    return "\n".join(lines) + "\n"


def schemes_page() -> str:
    """Return the table of all collocation schemes."""
    lines = [
        NOTICE,
        "# Collocation schemes\n",
        "`ilvren run FILE --scheme NAME`; how they are used:"
        " [over time, II](../over-time.md#ii-the-best-control-at-every-moment).",
        "A course on a grid has its unknowns at the points of a scheme in each interval.\n",
        "| scheme | order | points an interval | equations an interval and state | rates an interval |",
        "|---|---|---|---|---|",
    ]
    for name, scheme in SCHEMES.items():
        rates = len(scheme.used) - (1 if scheme.shares_ends else 0)
        own = f"| [`{name}`]({name}.md)" + (" (the default)" if name == DEFAULT_SCHEME else "")
        lines.append(f"{own} | {scheme.order} | {scheme.width} | {scheme.width} | {rates} |")
    lines += ["", inspect.cleandoc(importlib.import_module("ilvren.dynamics.schemes.scheme").__doc__ or "")]
    return "\n".join([*lines[:-1], "```text", lines[-1], "```"]) + "\n"


def scheme_page(name: str) -> str:
    """Return the page of one scheme: the head of its file."""
    module = importlib.import_module(f"ilvren.dynamics.schemes.{name.replace('-', '_')}")
    text = inspect.cleandoc(module.__doc__ or "")
    return f"{NOTICE}\n# {name}\n\n```text\n{text}\n```\n\n[All schemes](README.md)\n"


def plans_page() -> str:
    """Return the page of all sampling plans: what they are, their options, and the mathematics of their files."""
    lines = [
        NOTICE,
        "# Sampling plans\n",
        "`ilvren sample FILE --plan NAME`; how they are used: [exploring](exploring.md).\n",
    ]
    lines += ["| plan | what it is | for | more designs may join |", "|---|---|---|---|"]
    plans = [plan_named(name) for name in plan_names()]
    lines += [f"| `{p.name}` | {p.about} | {p.when} | {'yes' if p.grows else 'no'} |" for p in plans]
    lines += [
        "\n## Options\n",
        "Given as `--option NAME=VALUE`.\n",
        "| plan | option | default | meaning |",
        "|---|---|---|---|",
    ]
    for plan in plans:
        for item in fields(plan.options):
            default = ("yes" if item.default else "no") if isinstance(item.default, bool) else item.default
            lines.append(f"| `{plan.name}` | `{item.name.replace('_', '-')}` | {default} | {item.metadata['help']} |")
    lines.append("\n## How they are made\n")
    seen: dict[str, list[str]] = {}
    for plan in plans:
        seen.setdefault(plan.make.__module__, []).append(plan.name)
    for module, names in [*seen.items(), ("ilvren.plans.plan_quality", ["coverage"])]:
        importlib.import_module(module)
        lines += [f"### {', '.join(names)}\n", "```text", (inspect.getdoc(sys.modules[module]) or "").rstrip(), "```\n"]
    return "\n".join(lines)


def method_page(name: str) -> str:
    """Return the page of one method: its file's own description and its options."""
    method = method_named(name)
    facts = describe(method)
    text = inspect.getdoc(sys.modules[method.run.__module__]) or ""
    options = facts["options"]
    assert isinstance(options, list)
    lines = [
        NOTICE,
        f"# {name}\n",
        f"{method.about[:1].upper()}{method.about[1:]}.\n",
        "```text",
        text.rstrip(),
        "```\n",
    ]
    lines += [
        "## Options\n",
        "Given as `--option NAME=VALUE`.\n",
        "| option | default | range | meaning |",
        "|---|---|---|---|",
    ]
    lines += [f"| `{o['name']}` | {o['default']} | {o['range']} | {o['help']} |" for o in options]
    return "\n".join(lines) + "\n"


if __name__ == "__main__":
    for path, text in pages().items():
        (HERE / path).parent.mkdir(exist_ok=True)
        (HERE / path).write_text(text, encoding="utf-8")
        print(HERE.name + "/" + path)
