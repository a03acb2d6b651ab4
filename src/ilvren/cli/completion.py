"""`ilvren completion`: what a shell needs to complete commands, flags, files, methods and runs."""

from __future__ import annotations

import argparse
import contextlib
import os
import shlex
from typing import TYPE_CHECKING

from ilvren.cli import status
from ilvren.cli.arguments import DEFAULT_LEDGER, add_output_flags
from ilvren.cli.commands import COMMANDS

if TYPE_CHECKING:
    from ilvren.cli.arguments import Parser
    from ilvren.cli.terminal import Terminal

EXAMPLES = """examples:
  ilvren completion bash > ~/.local/share/bash-completion/completions/ilvren
  ilvren completion zsh > ~/.ilvren-completion.zsh   (and `source` it in ~/.zshrc)
  ilvren completion fish > ~/.config/fish/completions/ilvren.fish
"""

SHELLS = ("bash", "zsh", "fish")
KINDS = ("file", "method", "run", "both")
# Runs, groups and labels offered, the latest first.
MOST_RUNS = 200


def add_arguments(parser: argparse.ArgumentParser) -> None:
    """Declare the flags."""
    parser.add_argument("shell", metavar="SHELL", nargs="?", help="bash, zsh or fish: the shell to print the words for")
    parser.add_argument("--runs", action="store_true", help="instead, the runs, groups and labels of the ledger here")
    add_output_flags(parser, json=False)


def execute(arguments: argparse.Namespace, terminal: Terminal) -> int:
    """Run the command and return its exit status. Raises InputError for what a user can mend."""
    from ilvren.errors import RequestError, nearest

    if arguments.runs:
        terminal.out.write("".join(f"{name}\n" for name in runs_here()))
        return status.HOLDS
    if arguments.shell not in SHELLS:
        close = nearest(arguments.shell or "", SHELLS)
        advice = f'did you mean "{close}"?' if close else f"one of {', '.join(SHELLS)}"
        raise RequestError(f'no words for the shell "{arguments.shell or ""}"', advice=advice)
    terminal.out.write(fish_script() if arguments.shell == "fish" else bash_script(is_zsh=arguments.shell == "zsh"))
    return status.HOLDS


def runs_here() -> list[str]:
    """Return ids and labels of the runs and groups in the usual ledger, the latest first; none where it cannot be read.
    Read without what commands are made of: a shell waits for it."""
    import sqlite3
    from urllib.parse import quote

    path = os.environ.get("ILVREN_LEDGER") or DEFAULT_LEDGER
    found = []
    with (
        contextlib.suppress(sqlite3.Error, OSError),
        contextlib.closing(sqlite3.connect(f"file:{quote(path)}?mode=ro", uri=True, timeout=0.2)) as connection,
    ):
        for letter, table in (("r", "runs"), ("g", "groups")):
            query = f"SELECT number, label FROM {table} ORDER BY number DESC LIMIT ?"
            for number, label in connection.execute(query, (MOST_RUNS,)):
                found += [f"{letter}{number}", *([str(label)] if label else [])]
    return [name for name in found if name.isprintable() and not set(name) & set(" '\"\\$`")]


def flags_of(parser: Parser) -> dict[str, str]:
    """Return {flag: what its value is: "" for none, "file", "method", "run", "both" (file or run), "other"}."""
    kinds = {}
    for action in parser._actions:
        flag = next((own for own in action.option_strings if own.startswith("--")), "")
        if flag:
            kind = "method" if flag == "--method" else _kind(str(action.metavar or ""))
            kinds[flag] = "" if action.nargs == 0 else kind
    return kinds


def words_of(parser: Parser) -> str:
    """Return what a command's own words are: "file", "run", "both" or "other"."""
    found = [_kind(str(action.metavar or "")) for action in parser._actions if not action.option_strings]
    return found[0] if found else "other"


def _kind(metavar: str) -> str:
    words = metavar.replace("[", "|").split("|")
    is_file = any(word.startswith(("FILE", "PATH", "FOLDER")) for word in words)
    is_run = any(word.startswith(("RUN", "GROUP")) for word in words)
    return "both" if is_file and is_run else "file" if is_file else "run" if is_run else "other"


def _choices(name: str) -> list[str]:
    """Return the words that stand for a command's own one, where these are known."""
    if name == "demo":
        from ilvren.cli.demo_tours import TOURS

        return list(TOURS)
    return list(SHELLS) if name == "completion" else []


def _method_names() -> list[str]:
    from ilvren.methods import method_names

    return ["automatic", "global", *method_names()]


def bash_script(*, is_zsh: bool) -> str:
    """Return the completion for bash; zsh runs the same through its own bridge."""
    from ilvren.cli.parsers import parser_of

    cases = []
    for name in COMMANDS:
        parser = parser_of(name)
        flags = flags_of(parser)
        by_kind = {kind: "|".join(f for f, own in flags.items() if own == kind) for kind in KINDS}
        own = _choices(name)
        lines = [f"    {name})", f"      flags={shlex.quote(' '.join(flags))}"]
        lines += [f"      case $before in {by_kind[kind]}) wants={kind};; esac" for kind in by_kind if by_kind[kind]]
        others = "|".join(flag for flag, kind in flags.items() if kind == "other")
        lines += [f"      case $before in {others}) return;; esac"] if others else []
        lines += [f"      own={shlex.quote(' '.join(own))}"] if own else [f"      usual={words_of(parser)}"]
        cases.append("\n".join([*lines, "      ;;"]))
    head = "autoload -U +X compinit && compinit\nautoload -U +X bashcompinit && bashcompinit\n" if is_zsh else ""
    return f"""# Completion of ilvren for {"zsh" if is_zsh else "bash"}; written by `ilvren completion`.
{head}_ilvren_runs() {{ echo last; ilvren completion --runs 2>/dev/null; }}
_ilvren() {{
  local word=${{COMP_WORDS[COMP_CWORD]}} before=${{COMP_WORDS[COMP_CWORD-1]}} flags= wants= own= usual=other
  COMPREPLY=()
  if [ "$COMP_CWORD" -eq 1 ]; then
    COMPREPLY=( $(compgen -W {shlex.quote(" ".join([*COMMANDS, "--help", "--version"]))} -- "$word") )
    return
  fi
  case ${{COMP_WORDS[1]}} in
{chr(10).join(cases)}
  esac
  case $word in
    -*) if [ -z "$wants" ]; then COMPREPLY=( $(compgen -W "$flags" -- "$word") ); return; fi;;
  esac
  if [ -z "$wants" ] && [ -n "$own" ]; then COMPREPLY=( $(compgen -W "$own" -- "$word") ); return; fi
  case ${{wants:-$usual}} in
    method) COMPREPLY=( $(compgen -W {shlex.quote(" ".join(_method_names()))} -- "$word") );;
    run) COMPREPLY=( $(compgen -W "$(_ilvren_runs)" -- "$word") );;
    both) COMPREPLY=( $(compgen -f -- "$word") $(compgen -W "$(_ilvren_runs)" -- "$word") );;
    *) COMPREPLY=( $(compgen -f -- "$word") );;
  esac
}}
complete -o filenames -F _ilvren ilvren
"""


def fish_script() -> str:
    """Return the completion for fish."""
    from ilvren.cli.parsers import parser_of

    lines = ["# Completion of ilvren for fish; written by `ilvren completion`.", "complete -c ilvren -f"]
    values = {
        "file": " -r -F",
        "method": f" -x -a {shlex.quote(' '.join(_method_names()))}",
        "run": " -x -a 'last (ilvren completion --runs 2>/dev/null)'",
        "both": " -r -F -a 'last (ilvren completion --runs 2>/dev/null)'",
        "other": " -x",
        "": "",
    }
    for name, (_, summary) in COMMANDS.items():
        lines.append(f"complete -c ilvren -n __fish_use_subcommand -a {name} -d {_quoted(summary)}")
        parser = parser_of(name)
        here = f"complete -c ilvren -n '__fish_seen_subcommand_from {name}'"
        own = _choices(name)
        usual = values[words_of(parser)] if words_of(parser) != "other" else ""
        if own or usual:
            lines.append(here + (f" -x -a {shlex.quote(' '.join(own))}" if own else usual))
        about = {flag: action.help or "" for action in parser._actions for flag in action.option_strings}
        for flag, kind in flags_of(parser).items():
            lines.append(
                f"{here} -l {flag[2:]}{values[kind]} -d {_quoted(about[flag].partition(':')[0].partition(';')[0])}"
            )
    return "\n".join(lines) + "\n"


def _quoted(text: str) -> str:
    return "'" + text.replace("\\", "\\\\").replace("'", "\\'") + "'"
