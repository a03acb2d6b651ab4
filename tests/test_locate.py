"""`locate`: what it shows of numbers in decks and listings is what it lists as JSON, its entries find those numbers again, and
its block makes a problem that runs."""

import json
import os
import re
import tomllib
from pathlib import Path

from ilvren import load, run
from tests.test_cli import InAFolder

DECK = """PIPES  trunk 125.0  branch 80
 ROUGHNESS   0.012
 PUMP SPEED  1450.5
"""
LISTING = """ run of pipes
 NODE   HEAD   FLOW
  1    14.25   0.80
  2    13.75   0.45
 fastest flow = 1.338 m/s
 total loss:  0.5000
"""
# A program that reads the deck and leaves such a listing: the loss falls with the trunk, the speed of the flow grows.
PROGRAM = """#!/usr/bin/env python3
import re, sys
text = open(sys.argv[1]).read()
trunk = float(re.search(r"trunk ([0-9.eE+-]+)", text).group(1))
speed = float(re.search(r"SPEED +([0-9.eE+-]+)", text).group(1))
loss = 0.5 * 125.0 / trunk + 1e-6 * (speed - 1400.0) ** 2
print(" run of pipes")
print(" NODE   HEAD   FLOW")
print("  1    %.6f   0.80" % (14.25 * trunk / 125.0))
print("  2    13.75   0.45")
print(" fastest flow = %.6f m/s" % (1.338 * (125.0 / trunk) ** 2))
print(" total loss:  %.6f" % loss)
"""


class Locate(InAFolder):
    def setUp(self):
        super().setUp()
        Path("pipes.deck").write_text(DECK)
        Path("listing.txt").write_text(LISTING)

    def test_what_is_shown_is_what_is_listed(self):
        for word, places in (("14.25", 1), ("0.80", 1), ("1.338", 1), ("2", 1), ("0.5", 1)):
            with self.subTest(number=word):
                out, _ = self.call("locate", "listing.txt", word)
                (told,) = json.loads(self.call("locate", "listing.txt", word, "--json")[0])["numbers"]
                self.assertEqual(told["number"], float(word))
                self.assertGreaterEqual(len(told["places"]), places)
                for place in told["places"]:
                    line = LISTING.splitlines()[place["line"] - 1]
                    self.assertEqual(place["text"], line)
                    first, last = place["characters"]
                    self.assertAlmostEqual(
                        float(line[first - 1 : last]), float(word), delta=0.0 if place["exact"] else 0.06
                    )
                    self.assertIn(f"listing.txt:{place['line']}", out)
                    self.assertIn(f"‹{line[first - 1 : last]}›", out)
                shown = re.findall(r"read  \w+ = (\{.*\})", out)
                own = [tomllib.loads(f"x = {entry}")["x"] for entry in shown]
                self.assertEqual(own, [place["read"] for place in told["places"]])

    def test_a_number_that_stands_nowhere_is_answered_with_the_nearest(self):
        out, _ = self.call("locate", "listing.txt", "1.34", "7777", status=1)
        self.assertIn("1.34 stands once", out)  # to its digits
        self.assertIn("(to its digits)", out)
        self.assertRegex(out, "7777 stands nowhere in listing.txt; nearest there: 1[34]")
        Path("words.txt").write_text("no numbers here\n")
        self.assertIn("no number at all", self.call("locate", "words.txt", "3", status=1)[0])
        Path("many.txt").write_text("".join(f"line{chr(97 + k)} 3\n" for k in range(20)))
        self.assertIn("and 8 more places (--json lists all)", self.call("locate", "many.txt", "3")[0])

    def test_a_block_that_is_pasted_runs(self):
        Path("program").write_text(PROGRAM)
        os.chmod("program", 0o755)
        names = ("trunk=125.0", "speed=1450.5", "head=14.25", "fastest=1.338", "loss=0.5")
        block, _ = self.call("locate", "--deck", "pipes.deck", "--listing", "listing.txt", *names, "--model", "program")
        told = json.loads(self.call("locate", "--deck", "pipes.deck", "--listing", "listing.txt", *names, "--json")[0])
        self.assertEqual((told["put"], told["read"]), (["trunk", "speed"], ["head", "fastest", "loss"]))
        self.assertEqual(told["block"], block.rstrip("\n"))
        block = block.replace("listing.txt", "out.txt").replace('command = ["./program", "pipes.deck"]',
                                                               'command = ["sh", "-c", "./program pipes.deck > out.txt"]')  # fmt: skip
        text = (
            "[variables]\ntrunk = { start = 125, lower = 100, upper = 200 }\n"
            f"speed = {{ start = 1450.5, lower = 1300, upper = 1600 }}\n{block}\n"
            "[minimize]\nf = 'program.loss + 0.003 * trunk'\n[constraints]\nslow = 'program.fastest <= 1.2'\n"
        )
        Path("p.toml").write_text(text)
        problem = load("p.toml")
        result = run(problem, method="nelder-mead", evaluations=60)
        self.assertLess(result.violation, 1e-4)
        # of 62.5 / trunk + 0.003 trunk, and where the pump's speed loses nothing
        self.assertAlmostEqual(result.variables["trunk"], (62.5 / 0.003) ** 0.5, delta=4.0)
        self.assertAlmostEqual(result.variables["speed"], 1400.0, delta=40.0)

    def test_what_cannot_be_asked(self):
        for words, told in (
            (("listing.txt",), "no number to look for"),
            (("listing.txt", "x1"), '"x1" is no number'),
            (("listing.txt", "a b=3"), '"a b=3" is no number'),
            (("listing.txt", "3", "--name", "9a"), '"9a" is no name'),
            (("nothing.txt", "3"), "nothing.txt"),
            (("--deck", "pipes.deck", "a=3"), "a block needs both"),
            (("--deck", "pipes.deck", "--listing", "listing.txt", "125"), '"125" has no name'),
            (("--deck", "pipes.deck", "--listing", "listing.txt", "a=125", "--model", "9"), "--model 9: no name"),
            (
                ("--deck", "pipes.deck", "--listing", "listing.txt", "a=9876"),
                "nowhere in pipes.deck or listing.txt: a = 9876",
            ),
        ):
            with self.subTest(words=words):
                self.assertIn(told, self.call("locate", *words, status=2)[1])
