"""Every kind of problem by every command and output: each combination works, or is refused in words that are written
down here."""

import io
import json
import re
import unittest
from pathlib import Path

from ilvren.cli.main import main
from ilvren.cli.terminal import Terminal
from tests.compact import WHOLE, chosen
from tests.drawing import unpainted
from tests.kinds_of_problems import KINDS, MIXED, alone
from tests.test_cli import InAFolder

# Each is run on p.toml or the runs before it; NAME is something the problem minimizes or limits.
COMMANDS = """
show p.toml --json
show p.toml --output s.png
check p.toml --json --units
draw p.toml --variables VARIABLE --output d.png
simulate p.toml --json
sample p.toml --points 6 --json
sensitivity p.toml --json
sensitivity p.toml --kind elementary-effects --evaluations 12 --json
scatter p.toml --json --scenarios 50
propose p.toml --change NAME=-1% --json
run p.toml --json --evaluations 150 --label best
show last --json
verify last --json
diagnose last --json
report last --output r.html
export last --output h.csv
export last --output h.json
designs best --json
designs best --figure pairs --output p.png
draw p.toml --variables VARIABLE --run best --output e.png
simulate last --json
apply last --dry-run --json
run p.toml --evaluations 2 --label short --json
resume short --evaluations 30 --json
run p.toml --from best --evaluations 20 --json
run p.toml --sweep VARIABLE=[V] --evaluations 60 --json
run p.toml --fix VARIABLE=V --evaluations 60 --json
run p.toml --repeats 2 --method METHOD --evaluations 40 --json
contest p.toml --method METHOD --method OTHER --evaluations 60 --json
compare best short --json
approximate r1 --json
sensitivity r1 --json
runs --json
"""
# Later commands are run on what these record, where they speak of it.
NEEDED = {
    "sample p.toml --points 6 --json": re.compile(r"\br1\b"),
    "run p.toml --json --evaluations 150 --label best": re.compile(r"\b(best|last)\b"),
    "run p.toml --evaluations 2 --label short --json": re.compile(r"\bshort\b"),
}
NOBODY = re.compile(r"(?!)")
# kind → what stands for NAME, VARIABLE, V, METHOD and OTHER where it is not the usual.
USUAL = {"NAME": "cost", "VARIABLE": "x", "V": "1", "METHOD": "cma-es", "OTHER": "nelder-mead"}
OWN = {
    "vectors": {"NAME": "f", "VARIABLE": "u[1]", "V": "0.5"},
    "python model": {"NAME": "length", "VARIABLE": "width", "V": "2.5"},
    "program": {"NAME": "length", "VARIABLE": "width", "V": "2.5"},
    "over time": {"VARIABLE": "k"},
    "control": {"NAME": "work", "VARIABLE": "push", "METHOD": "interior-point", "OTHER": "augmented-lagrangian"},
    "several objectives": {"METHOD": "nondominated-sorting", "OTHER": "front-direct-search"},
    "scatter": {"VARIABLE": "wall", "V": "8"},
    "members": {"VARIABLE": "wood", "V": "larch", "OTHER": "mesh-adaptive-search"},
    "fit": {"NAME": "a", "VARIABLE": "b"},
    "cases": {"VARIABLE": "w"},
    "confirmed": {"VARIABLE": "width", "V": "2.5"},
    "front of members": {
        "VARIABLE": "wood",
        "V": "larch",
        "METHOD": "nondominated-sorting",
        "OTHER": "front-direct-search",
    },
    "scattering members": {"VARIABLE": "wood", "V": "larch", "OTHER": "mesh-adaptive-search"},
    "members over time": {"VARIABLE": "lid", "V": "felt", "OTHER": "mesh-adaptive-search"},
    "model over time": {"VARIABLE": "depth"},
    "fit over time": {"NAME": "a", "VARIABLE": "b"},
    "scattering front": {"METHOD": "nondominated-sorting", "OTHER": "front-direct-search"},
    "cases of vectors": {"VARIABLE": "u[1]", "OTHER": "mesh-adaptive-search"},
}
# What is refused, by the beginning of the command, and words of why; "" for all kinds but those that stand first.
REFUSED = [
    (
        "simulate",
        {"over time", "control", "members over time", "model over time", "fit over time"},
        "nothing that evolves over time",
    ),
    (
        "scatter",
        {"scatter", "scattering members", "scattering front"},
        "does not say how anything scatters",
    ),
    ("apply", {"program"}, "nothing to write"),
]
REFUSED_OF = {
    ("several objectives", "draw p.toml"): "several objectives",
    ("front of members", "draw p.toml"): "several objectives",
    ("scattering front", "draw p.toml"): "several objectives",
    ("control", "draw"): "push",
    ("control", "sweep"): "not one number",
    ("control", "propose"): "a change of nothing",
    ("control", "--repeats"): "draws nothing at random",
    ("scatter", "designs best --figure"): "no design is left to draw",
    ("vectors", "resume"): "has ended",
    ("cases", "resume"): "has ended",
}
# A program takes a tenth of a second a call, which verifying by neighbours and figures ask for by the hundred.
# Figures and pages take a second each: of these kinds alone.
DRAWN = ("designs best --figure", "report", "show p.toml --output")
DRAWN_OF = ("formulas", "control", "several objectives", "scatter", "members")
SKIPPED = {
    "program": ("draw", "verify", "report", "contest", "diagnose"),
    # Proofs for every member of a front take a minute.
    "front of members": ("verify", "report"),
    "scattering members": ("verify",),
    **({} if WHOLE else {"model over time": ("draw", "verify", "run p.toml --repeats")}),  # a call at every moment
}


class Matrix(InAFolder):
    def refusal(self, kind, words):
        """Return the words of the refusal that is expected, "" for none."""
        for begin, able, why in REFUSED:
            if words.startswith(begin) and kind not in able:
                return why
        return next((why for (own, part), why in REFUSED_OF.items() if own == kind and part in words), "")

    def test_every_kind_by_every_command(self):
        done = 0
        unpainted(self)
        for number, kind in enumerate(KINDS | MIXED):
            alone(kind)
            words_of = USUAL | OWN.get(kind, {})
            lines = COMMANDS.strip().splitlines()
            asked = [line for place, line in enumerate(lines) if chosen(number, place, 20)]
            for line in lines:
                if line not in asked and not any(map(NEEDED.get(line, NOBODY).search, asked)):
                    continue
                if line.startswith(SKIPPED.get(kind, ("\n",))) or (line.startswith(DRAWN) and kind not in DRAWN_OF):
                    continue
                for name, own in words_of.items():
                    line = line.replace(name, own)
                if not WHOLE:
                    line = line.replace("--evaluations 150", "--evaluations 80")
                if line.startswith("run ") and kind.startswith("scatter"):
                    line += " --scenarios 100"
                with self.subTest(kind=kind, command=line):
                    done += 1
                    self.one(kind, line)
        self.assertGreater(done, 360 if WHOLE else 25)

    def one(self, kind, line):
        out, err = io.StringIO(), io.StringIO()
        status = main(line.split(), Terminal(out, err, quiet=True))
        said, why = err.getvalue(), self.refusal(kind, line)
        if why:
            self.assertEqual(status, 2, out.getvalue() + said)
            self.assertIn(why, said)
            self.assertGreaterEqual(len(said.strip().splitlines()), 1)
            return
        self.assertIn(status, (0, 1), said)
        if "--json" in line:
            json.loads(out.getvalue(), parse_constant=lambda text: self.fail(f"{text} is no JSON"))
        if "--output" in line:
            content = Path(line.split("--output ")[1].split()[0]).read_bytes()
            self.assertGreater(len(content), 40)
            if line.endswith(".png"):
                self.assertTrue(content.startswith(b"\x89PNG"))
            if line.endswith(".json"):
                json.loads(content)


if __name__ == "__main__":
    unittest.main()
