"""`ilvren locate`: where numbers stand in decks and listings, as entries to paste into a problem file."""

from __future__ import annotations

import argparse
import re
from pathlib import Path
from typing import TYPE_CHECKING, Any

from ilvren.cli import status
from ilvren.cli.arguments import add_output_flags
from ilvren.errors import RequestError
from ilvren.regular import regular_bytes

if TYPE_CHECKING:
    from ilvren.cli.terminal import Terminal
    from ilvren.models.program import Located

EXAMPLES = """examples:
  ilvren locate pipes.deck 110
  ilvren locate --deck pipes.deck --listing listing.txt trunk=125 fastest=1.338
"""

_NUMBER = re.compile(r"[+-]?(?:\d+\.?\d*|\.\d+)(?:[eEdD][+-]?\d+)?")
_NAME = re.compile(r"[A-Za-z_][A-Za-z0-9_]*")
# So many places of a number are shown.
MOST_PLACES = 12


def add_arguments(parser: argparse.ArgumentParser) -> None:
    """Declare the flags."""
    parser.add_argument(
        "words",
        metavar="FILE NUMBER",
        nargs="+",
        help="a deck or listing, and numbers as they stand there, or to their digits: 0.164, NAME=0.164, NAME=[4, 9]",
    )
    parser.add_argument("--name", metavar="NAME", nargs="+", default=[], help="names of the numbers, in their order")
    parser.add_argument(
        "--deck", metavar="FILE", help="with --listing: write a whole [models] block, this being its input"
    )
    parser.add_argument(
        "--listing", metavar="FILE", action="append", default=[], help="what the program leaves (repeatable)"
    )
    parser.add_argument("--model", metavar="NAME", default="program", help="the model's name in the block (program)")
    add_output_flags(parser)


def execute(arguments: argparse.Namespace, terminal: Terminal) -> int:
    """Run the command and return its exit status. Raises InputError for what a user can mend."""
    if arguments.deck or arguments.listing:
        return _block(arguments, terminal)
    file, *words = arguments.words
    if not words:
        raise RequestError(f"no number to look for in {file}", advice=f"`ilvren locate {file} 0.164`")
    wanted = _wanted(words, arguments.name)
    text = _text(file)
    found = [(name, numbers, _located(file, text, numbers)) for name, numbers in wanted]
    if arguments.json:
        terminal.document({"file": file, "numbers": [_document(*one) for one in found]})
    else:
        for name, numbers, places in found:
            _show(file, text, name, numbers, places, terminal)
    return status.HOLDS if all(places for _, _, places in found) else status.DOES_NOT_HOLD


def _wanted(words: list[str], names: list[str]) -> list[tuple[str, list[str]]]:
    """Return (name, numbers as written) of each word."""
    found: list[tuple[str, list[str]]] = []
    for place, word in enumerate(words):
        name, sign, value = word.rpartition("=")
        own = [item.strip() for item in value.strip("[] ").split(",")]
        if (sign and not _NAME.fullmatch(name)) or not own or not all(_NUMBER.fullmatch(item) for item in own):
            raise RequestError(f'"{word}" is no number', advice="numbers are 0.164, 1.2e-3, NAME=0.164, NAME=[4, 9.5]")
        if not sign and place < len(names):
            name = names[place]
        if name and not _NAME.fullmatch(name):
            raise RequestError(f'"{name}" is no name', advice="names have ASCII letters, digits and _")
        found.append((name or (f"number{place + 1}" if len(words) > 1 else "number"), [_plain(item) for item in own]))
    return found


def _plain(word: str) -> str:
    return re.sub("[dD]", "e", word)


def _text(file: str) -> str:
    try:
        return regular_bytes(file).decode("utf-8", errors="replace")
    except OSError as error:
        raise RequestError(f"cannot be read: {error.strerror}", file=file) from None


def _located(file: str, text: str, numbers: list[str]) -> list[Located]:
    from ilvren.models.program import located

    return located(Path(file).name, text, numbers)


def _document(name: str, numbers: list[str], places: list[Located]) -> dict[str, Any]:
    return {
        "name": name,
        "number": [float(item) for item in numbers] if len(numbers) > 1 else float(numbers[0]),
        "places": [
            {
                "line": place.line or None,
                "text": place.text,
                "characters": [place.first + 1, place.last] if place.last else None,
                "exact": place.is_exact,
                "put": place.put,
                "read": {"file": place.file, **place.read},
            }
            for place in places
        ],
    }


def _show(file: str, text: str, name: str, numbers: list[str], places: list[Located], terminal: Terminal) -> None:
    from rich.text import Text

    from ilvren.models.program import entry_text, nearest_numbers

    told = ", ".join(numbers)
    if not places:
        near = ", ".join(nearest_numbers(text, numbers[0]))
        terminal.show(
            "", Text(f"{told} stands nowhere in {file}; nearest there: {near or 'no number at all'}", style="bold")
        )
        return
    times = "once" if len(places) == 1 else f"at {len(places)} places"
    terminal.show("", Text(f"{told} stands {times} in {file}", style="bold"))
    for place in places[:MOST_PLACES]:
        line = Text(f"  {place.file}:{place.line}  " if place.line else f"  {place.file}  ", style="cyan")
        marks = "" if place.is_exact else "   (to its digits)"
        terminal.show(line + Text(_marked(place)) + Text(marks, style="dim"))
        if place.put is not None:
            terminal.show(f"    put   {name} = {entry_text(place.put)}")
        terminal.show(f"    read  {name} = {entry_text(place.read, file=place.file)}")
    if len(places) > MOST_PLACES:
        terminal.show(f"  and {len(places) - MOST_PLACES} more places (--json lists all)")


def _marked(place: Located) -> str:
    return f"{place.text[: place.first]}‹{place.text[place.first : place.last]}›{place.text[place.last :]}"


# ---- a whole block -------------------------------------------------------------------------------


def _block(arguments: argparse.Namespace, terminal: Terminal) -> int:
    """Write [models.NAME] from a deck, listings and NAME=NUMBER."""
    if not arguments.deck or not arguments.listing:
        raise RequestError(
            "a block needs both --deck FILE and --listing FILE", advice=EXAMPLES.splitlines()[-1].strip()
        )
    if not _NAME.fullmatch(arguments.model):
        raise RequestError(f"--model {arguments.model}: no name", advice="names have ASCII letters, digits and _")
    nameless = [word for word in arguments.words if "=" not in word]
    if nameless:
        raise RequestError(f'"{nameless[0]}" has no name', advice=f"write NAME={nameless[0]}, with a name of your own")
    from ilvren.models.program import in_order

    deck, listings = _text(arguments.deck), {file: _text(file) for file in arguments.listing}
    puts: list[tuple[str, list[Located]]] = []
    reads: list[tuple[str, list[Located]]] = []
    open_: list[str] = []
    for name, numbers in _wanted(arguments.words, []):
        inside = _located(arguments.deck, deck, numbers)
        inside = [place for place in inside if place.put is not None]
        outside = [place for file, text in listings.items() for place in _located(file, text, numbers)]
        chosen = puts if inside else reads
        places = inside or in_order(outside)
        if not places:
            open_.append(f"{name} = {', '.join(numbers)}")
            continue
        chosen.append((name, places))
    if open_:
        raise RequestError(
            f"nowhere in {arguments.deck} or {', '.join(arguments.listing)}: {'; '.join(open_)}",
            advice=f"`ilvren locate {arguments.listing[0]} NUMBER` shows what is nearest",
        )
    text = _toml_block(arguments.model, Path(arguments.deck).name, puts, reads)
    if arguments.json:
        terminal.document({"block": text, "put": [n for n, _ in puts], "read": [n for n, _ in reads]})
    else:
        terminal.show(text)
    return status.HOLDS


def _toml_block(
    model: str, deck: str, puts: list[tuple[str, list[Located]]], reads: list[tuple[str, list[Located]]]
) -> str:
    from ilvren.models.program import entry_text

    lines = [
        f"[models.{model}]",
        f'command = ["./{model}", "{deck}"]      # how the program is called, in a fresh folder',
    ]
    lines += [f'files   = ["{model}"]                # what is copied there beside the deck']
    if puts:
        lines += [
            "",
            f'[models.{model}.write."{deck}"]',
            f'base = "{deck}"',
            "",
            f'[models.{model}.write."{deck}".put]',
        ]
        for name, places in puts:
            assert places[0].put is not None
            lines.append(f"{name} = {entry_text(places[0].put)}{_comment(places)}")
    if reads:
        lines += ["", f"[models.{model}.read]"]
        for name, places in reads:
            lines.append(f"{name} = {entry_text(places[0].read, file=places[0].file)}{_comment(places)}")
    return "\n".join(lines)


def _comment(places: list[Located]) -> str:
    """Return a comment on what else the number could be."""
    told = [] if places[0].is_exact else [f"{places[0].text[places[0].first : places[0].last]} there"]
    others = [f"{place.file}:{place.line}" for place in places[1:4] if place.line]
    if others:
        told.append("also at " + ", ".join(others) + (", …" if len(places) > 4 else ""))
    return f"   # {'; '.join(told)}" if told else ""
