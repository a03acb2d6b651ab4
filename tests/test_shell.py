"""What a shell, a manual and a wheel are given."""

import re
import shlex
import shutil
import subprocess
import sys
import unittest
from pathlib import Path

from ilvren.cli.commands import COMMANDS, GROUPS
from ilvren.cli.completion import flags_of
from ilvren.cli.demo_tours import TOURS
from ilvren.cli.parsers import parser_of
from ilvren.methods import method_names
from tests.test_cli import InAFolder

ROOT = Path(__file__).parent.parent


class Completing(InAFolder):
    def completed(self, *words):
        """Return what bash offers for the last of some words."""
        script = self.call("completion", "bash")[0]
        # The completion asks the program for runs.
        ask = f'ilvren() {{ {shlex.quote(sys.executable)} -m ilvren "$@"; }}\n'
        end = f"COMP_WORDS=({' '.join(map(shlex.quote, words))}); COMP_CWORD={len(words) - 1}; _ilvren\n"
        text = script + ask + end + 'printf "%s\\n" "${COMPREPLY[@]}"\n'
        done = subprocess.run(["bash", "-c", text], capture_output=True, text=True, check=True, timeout=60)
        self.assertEqual(done.stderr, "")
        return [word for word in done.stdout.splitlines() if word]

    @unittest.skipUnless(shutil.which("bash"), "needs bash")
    def test_bash_offers_what_there_is(self):
        self.call("run", "pump.toml", "--quiet", "--label", "first try", "--method", "sqp")
        self.call("run", "pump.toml", "--quiet", "--label", "second", "--method", "sqp")
        self.assertEqual(self.completed("ilvren", "ru"), ["run", "runs"])
        self.assertEqual(self.completed("ilvren", "run", "pu"), ["pump.toml"])
        self.assertEqual(self.completed("ilvren", "run", "pump.toml", "--metho"), ["--method"])
        self.assertEqual(self.completed("ilvren", "run", "--method", "nelder"), ["nelder-mead"])
        self.assertEqual(self.completed("ilvren", "run", "--tolerance", ""), [])
        self.assertEqual(self.completed("ilvren", "demo", "tan"), ["tank-day"])
        # A label with a blank is not offered: a shell would take it for two words.
        self.assertEqual(set(self.completed("ilvren", "compare", "")), {"last", "r1", "r2", "second"})
        self.assertEqual(self.completed("ilvren", "verify", "sec"), ["second"])
        self.assertEqual(self.completed("ilvren", "report", "last", "--output", "pum"), ["pump.toml"])

    def test_every_flag_of_every_command_is_in_each_script(self):
        scripts = {shell: self.call("completion", shell)[0] for shell in ("bash", "zsh", "fish")}
        for name in COMMANDS:
            for flag in flags_of(parser_of(name)):
                with self.subTest(name, flag=flag):
                    self.assertIn(flag, re.search(rf"(?ms)^ +{name}\)$(.*?);;\n", scripts["bash"])[1])
                    self.assertRegex(scripts["fish"], rf"__fish_seen_subcommand_from {name}' -l {flag[2:]}\b")
        for name in method_names():
            self.assertIn(name, scripts["zsh"])
        self.assertIn('Did you mean "bash"?', self.call("completion", "bsh", status=2)[1])

    @unittest.skipUnless(shutil.which("fish"), "needs fish")
    def test_fish_takes_its_script(self):
        Path("c.fish").write_text(self.call("completion", "fish")[0])
        asked = "source c.fish; complete -C 'ilvren run --method nelder'"
        done = subprocess.run(["fish", "-c", asked], capture_output=True, text=True, check=True, timeout=60)
        self.assertTrue(done.stdout.startswith("nelder-mead"), done.stdout + done.stderr)

    def test_runs_of_no_ledger_are_none(self):
        self.assertEqual(self.call("completion", "--runs")[0], "")
        Path("ilvren.ledger").write_bytes(b"no ledger")
        self.assertEqual(self.call("completion", "--runs")[0], "")


class Telling(InAFolder):
    def test_version_says_what_computes_and_from_where(self):
        out = self.call("--version")[0]
        self.assertRegex(out, r"(?s)^ilvren \d+\.\d+\.\d+\nPython 3\.\d+\.\d+, numpy \d.*, scipy \d.*\nin .*ilvren\n$")
        done = subprocess.run([sys.executable, "-m", "ilvren", "--version"], capture_output=True, text=True, check=True)
        self.assertEqual(done.stdout, out)

    def test_demos_are_listed_and_all_are_there(self):
        out = self.call("demo", "--list")[0]
        for name, tour in TOURS.items():
            self.assertIn(name, out)
            self.assertTrue((ROOT / "src" / "ilvren" / "demos" / tour.folder).is_dir(), name)
            for _, command in (*tour.steps, ("", tour.next.rpartition("; ")[2].removeprefix("ilvren "))):
                words = shlex.split(command)
                with self.subTest(name, command=command):
                    parser_of(words[0]).parse_args(words[1:])

    def test_all_commands_stand_in_a_group_and_in_the_manual(self):
        self.assertEqual(sorted(name for names in GROUPS.values() for name in names), sorted(COMMANDS))
        manual = (ROOT / "docs" / "ilvren.1").read_text()
        for name in COMMANDS:
            self.assertIn(f".SS ilvren {name}\n", manual)
        self.assertNotRegex(manual, r"(?m)^\.(?!\\\"|TH|SH|SS|TP|PP|nf|fi|br|B|I)")


if __name__ == "__main__":
    unittest.main()
