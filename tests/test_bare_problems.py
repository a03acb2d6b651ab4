"""Every command on problems that have next to nothing in them: no continuous variable, no rows, no objective, one member,
nothing that varies, nothing that is finite. Each ends in words, whatever they are."""

import io
import unittest
import warnings
from pathlib import Path

from ilvren.cli.main import main
from ilvren.cli.terminal import Terminal
from tests.compact import chosen
from tests.drawing import unpainted
from tests.test_cli import InAFolder

GRID = "a = { start = 2, catalogue = [1, 2, 5] }\nb = { start = 3, lower = 0, upper = 9, spacing = 1 }\n"
FREE = "x = { start = 1, lower = 0, upper = 2 }\ny = { start = 1 }\n"
PROBLEMS = {
    "members only": f'[variables]\n{GRID}[minimize]\nf = "(a-3)^2 + b"\n[constraints]\nk = "a + b >= 3"\n',
    "members in conflict": f'[variables]\n{GRID}[minimize]\nf = "a + b"\n[constraints]\nk = "a + b >= 30"\n',
    "all fixed": '[variables]\na = { start = 2, lower = 2, upper = 2 }\n[minimize]\nf = "a^2"\n[constraints]\nk = "a <= 1"\n',
    "one member": '[variables]\na = { start = 2, catalogue = [2] }\n[minimize]\nf = "a^2"\n[constraints]\nk = "a <= 1"\n',
    "one word": f'[variables]\nw = {{ start = "oak", choices = ["oak"] }}\n{FREE}[minimize]\nf = "(x-2)^2 + y^2"\n',
    "no rows": '[variables]\nx = { start = 1 }\n[minimize]\nf = "(x-2)^2"\n',
    "no objective": f'[variables]\n{FREE}[constraints]\nc = "x + y == 1"\nd = "x >= y"\n',
    "nothing asked": f"[variables]\n{FREE}",
    "constant": f'[variables]\n{FREE}[minimize]\nf = "3"\n',
    "constant with rows": f'[variables]\n{FREE}[minimize]\nf = "3"\n[constraints]\nc = "x + y >= 5"\nd = "3 >= 5"\n',
    "two constants": f'[variables]\n{FREE}[minimize]\nf = "1"\ng = "2"\n',
    "two objectives of members": f'[variables]\n{GRID}[minimize]\nf = "a"\ng = "(a-3)^2 + b"\n',
    "no width": '[variables]\nx = { start = 1, lower = 1, upper = 1 }\ny = 1\n[minimize]\nf = "x * y^2"\n',
    "invalid at the start": '[variables]\nx = { start = -1, lower = -3, upper = 9 }\n[minimize]\nf = "sqrt(x) + (x-4)^2"\n',
    "invalid everywhere": '[variables]\nx = { start = -1, lower = -3, upper = -1 }\n[minimize]\nf = "sqrt(x)"\n',
    "vast": '[variables]\nx = { start = 1e300, lower = -1e307, upper = 1e307 }\n[minimize]\nf = "x^2"\n',
    "wider than numbers": '[variables]\nx = { start = 1, lower = -1e308, upper = 1e308 }\n[minimize]\nf = "x^2"\n',
    "scattered members": f'[variables]\n{GRID}[scatter]\na = {{ law = "normal", deviation = 0.1 }}\n[minimize]\nf = "a*b"\n',
    "an empty file": "",
}
REFUSED = {"nothing asked", "wider than numbers", "an empty file"}
COMMANDS = [
    *(
        line.split()
        for line in ("show p.toml", "check p.toml", "draw p.toml --output d.png", "sample p.toml --points 4")
    ),
    *(line.split() for line in ("sensitivity p.toml", "simulate p.toml", "propose p.toml", "scatter p.toml")),
    ["run", "p.toml", "--evaluations", "300"],
    *(line.split() for line in ("runs", "diagnose last", "verify last --worth", "propose last", "apply last --starts")),
    *(line.split() for line in ("designs --json", "compare last", "export last", "report last", "draw last")),
    ["run", "p.toml", "--method", "genetic-algorithm", "--evaluations", "90"],
    *(line.split() for line in ("diagnose last", "verify last", "resume last")),
    ["run", "p.toml", "--method", "sqp"],
    *(line.split() for line in ("diagnose last --json", "compare", "sensitivity last")),
]


class BareProblems(InAFolder):
    def test_every_command_ends_in_words(self):
        unpainted(self)
        for number, (name, text) in enumerate(PROBLEMS.items()):
            for path in (*Path().glob("*.ledger*"), *Path().glob("*.png"), *Path().glob("*.html")):
                path.unlink()
            Path("p.toml").write_text(text)
            for place, words in enumerate(COMMANDS):
                if words[0] not in ("show", "run") and not chosen(number, place, 20):
                    continue
                out, err = io.StringIO(), io.StringIO()
                with self.subTest(problem=name, command=" ".join(words)), warnings.catch_warnings():
                    warnings.simplefilter("error", RuntimeWarning)
                    status = main(words, Terminal(out, err, quiet=True))
                    said = out.getvalue() + err.getvalue()
                    self.assertIn(status, (0, 1, 2), said)
                    if words[0] == "show":  # it is a problem, and not a slip in this file
                        self.assertEqual(status, 2 if name in REFUSED else 0, said)
                    if status == 2:
                        self.assertNotEqual(err.getvalue().strip(), "")


if __name__ == "__main__":
    unittest.main()
