"""Records completed at first use are the dataclasses they were declared as, in every thread."""

import copy
import pickle
import threading
import unittest
from dataclasses import FrozenInstanceError, asdict, field, fields, replace

from ilvren.records import dataclass


@dataclass(frozen=True)
class Size:
    width: float
    height: float = 2.0
    notes: list = field(default_factory=list, compare=False)
    unit: str = field(default="m", repr=False)


@dataclass(frozen=True)
class Named(Size):
    name: str = "a"

    def __post_init__(self):
        object.__setattr__(self, "area", self.width * self.height)


@dataclass
class Count:
    number: int
    step: int = field(default=1, init=False)


@dataclass(order=True, kw_only=True)
class Rank:
    place: int


@dataclass(frozen=True, eq=False)
class Itself:
    value: int


@dataclass(frozen=True)
class Told:
    value: int

    def __repr__(self):
        return "told"


class Records(unittest.TestCase):
    def test_they_are_what_they_were_declared_as(self):
        self.assertEqual(
            [(f.name, f.repr, f.compare) for f in fields(Size)][2:], [("notes", True, False), ("unit", False, True)]
        )
        one = Size(1.0, notes=[3])
        self.assertEqual(repr(one), "Size(width=1.0, height=2.0, notes=[3])")
        self.assertEqual((one, hash(one)), (Size(1.0), hash(Size(1.0))))
        self.assertNotEqual(one, Size(1.0, unit="mm"))
        self.assertIsNot(Size(1.0).notes, Size(1.0).notes)
        self.assertEqual((Size.height, hasattr(Size, "notes")), (2.0, False))
        for change in (lambda: setattr(one, "width", 2.0), lambda: delattr(one, "unit")):
            with self.assertRaises(FrozenInstanceError):
                change()
        self.assertEqual(replace(one, height=3.0), Size(1.0, 3.0))
        for again in (pickle.loads(pickle.dumps(one)), copy.deepcopy(one)):
            self.assertEqual((again, again.notes), (one, [3]))
        match one:
            case Size(width, height):
                self.assertEqual((width, height), (1.0, 2.0))

    def test_heirs_orders_and_what_is_written_by_hand(self):
        self.assertEqual((Named(3.0).area, [f.name for f in fields(Named)][-1]), (6.0, "name"))
        count = Count(4)
        count.number = 5
        self.assertEqual((asdict(count), count == Count(5)), ({"number": 5, "step": 1}, True))
        with self.assertRaises(TypeError):
            hash(count)
        with self.assertRaises(TypeError):
            Rank(1)
        self.assertLess(Rank(place=1), Rank(place=2))
        self.assertEqual((len({Itself(1), Itself(1)}), repr(Told(1)), Told(1) == Told(1)), (2, "told", True))

    def test_threads_find_them_whole(self):
        for _ in range(40):
            made = dataclass(frozen=True)(type("Made", (), {"__annotations__": {"a": "int", "b": "int"}, "b": 2}))
            found, ready = [], threading.Barrier(4)

            def work(made=made, found=found, ready=ready):
                ready.wait()
                found.append(made(1) == made(1, 2))

            threads = [threading.Thread(target=work) for _ in range(4)]
            for thread in threads:
                thread.start()
            for thread in threads:
                thread.join()
            self.assertEqual(found, [True] * 4)


if __name__ == "__main__":
    unittest.main()
