"""The tours of the demos, walked to their ends: what they say stands in what the program prints."""

import unittest
from pathlib import Path

from ilvren.cli.demo_tours import TOURS
from tests.compact import WHOLE
from tests.test_cli import InAFolder

# What each must have said on the way; the one that is walked in every run of the tests.
SAID = {
    "rising-main": "local-strict (holds)",
    "valley": "crest=1.19",
    "hum": "looked-first",
    "trench": "Jacobian 59998 x 20000: 119993 non-zeros",
    "pump-test": "surprise = 25.13",
    "level-loop": "settled",
    "tank-day": "nothing of a receding horizon is recorded",
    "terrace-pipes": "mesh-adaptive-search",
    "stilling-basin": "surface",
    "cutwater": "outline.png",
    "cost-or-loss": "front",
    "as-made": "reliability",
}
WALKED = ("valley",)


class Tours(InAFolder):
    def test_every_tour_walks_to_its_end(self):
        self.assertEqual(set(SAID), set(TOURS))
        for name in SAID if WHOLE else WALKED:
            with self.subTest(demo=name):
                out = self.call("demo", name)[0]
                self.assertIn(SAID[name], out)
                self.assertIn("That was all", out)
                for number, (_, command) in enumerate(TOURS[name].steps, start=1):
                    self.assertIn(f"{number}. ", out)
                    self.assertIn(f"   $ ilvren {command}", out)
                    if "--output " in command:
                        written = Path(name, command.rpartition("--output ")[2].split()[0])
                        self.assertGreater(written.stat().st_size, 100, command)


if __name__ == "__main__":
    unittest.main()
