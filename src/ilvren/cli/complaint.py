"""How an error reads on a terminal: place, what is wrong, the text with the fault underlined, the way out."""

from __future__ import annotations

from ilvren.errors import IlvrenError, InputError

__all__ = ["complaint"]

# A long formula is shown this far around its fault.
MOST_TEXT = 100


def complaint(error: IlvrenError) -> str:
    """Return the message of an error, without a final line break."""
    if not isinstance(error, InputError):
        return f"ilvren: {error}"
    lines = [str(error) if error.file else f"ilvren: {error}"]
    if error.text:
        lines.extend(_quoted(error.text, error.span))
    if error.advice:
        lines.append(f"    {error.advice[:1].upper()}{error.advice[1:]}")
    return "\n".join(lines)


def _quoted(text: str, span: tuple[int, int] | None) -> list[str]:
    flat = "".join(" " if character in "\r\n\t" else character for character in text)
    start, end = span or (0, 0)
    first = 0
    if len(flat) > MOST_TEXT:
        first = max(0, min(start - MOST_TEXT // 3, len(flat) - MOST_TEXT))
    shown = flat[first : first + MOST_TEXT]
    before = "… " if first else ""
    after = " …" if first + MOST_TEXT < len(flat) else ""
    lines = [f"        {before}{shown}{after}"]
    if span is not None and start < first + MOST_TEXT:
        width = max(1, min(end, first + MOST_TEXT) - start)
        lines.append(" " * (8 + len(before) + start - first) + "^" * width)
    return lines
