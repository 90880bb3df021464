"""Names are found again however a person writes them, and never as something else."""

from unittest import TestCase

import yaml
from django.conf import settings
from hypothesis import given
from hypothesis import strategies as st

from aldrip_core.names import Names, find_form, plain, read_form

LIBRARY = settings.ROOT / "library"
CROPS = [crop["name"] for crop in yaml.safe_load((LIBRARY / "crops.yaml").read_text())["crops"]]
FORMS = {one["form"] for one in yaml.safe_load((LIBRARY / "methods.yaml").read_text())["templates"].values()}
WAYS = {
    "shouted": str.upper,
    "hyphened": lambda name: name.replace(" ", "-"),
    "turned": lambda name: " ".join(name.split()[::-1]),
    "with a comma": lambda name: ", ".join(name.split()[::-1]),
    "many": lambda name: name + ("es" if name.endswith("sh") else "s"),
    "spaced out": lambda name: f"  {name.replace(' ', '   ')} ",
}


class Found(TestCase):
    def test_every_crop_that_ships_is_found_however_it_is_written(self) -> None:
        names: Names[str] = Names()
        for name in CROPS:
            names.add(name, name)
        for how, written in WAYS.items():
            for name in CROPS:
                if how != "many" or not name.endswith("s"):
                    self.assertEqual(names.find(written(name)), name, how)

    @given(st.lists(st.sampled_from(CROPS), min_size=2, unique=True), st.data())
    def test_one_name_is_never_taken_for_another(self, known: list[str], data: st.DataObject) -> None:
        names: Names[str] = Names()
        for name in known[1:]:
            names.add(name, name)
        missing = known[0]
        self.assertIsNone(names.find(missing))
        names.add(missing, missing)
        asked = data.draw(st.sampled_from(known))
        self.assertEqual(names.find(asked), asked)

    def test_what_may_be_meant_is_offered_and_not_taken(self) -> None:
        names: Names[str] = Names()
        for name in CROPS:
            names.add(name, name)
        self.assertIsNone(names.find("Iceberg lettuce"))
        self.assertEqual(names.near("Iceberg lettuce"), ["Lettuce"])
        self.assertIn("White cabbage", names.near("Cabbage"))
        self.assertEqual(names.near("Zelkova"), [])

    def test_one_name_of_two_things_finds_neither(self) -> None:
        names: Names[int] = Names()
        names.add("Stock", 1)
        names.add("stock", 2)
        self.assertIsNone(names.find("STOCKS"))


class Forms(TestCase):
    def test_every_form_that_ships_is_found_by_its_own_name_with_any_size(self) -> None:
        for form in FORMS:
            for size in ("", " 150", " in 104s", " 9 cm", " 10.5cm"):
                self.assertEqual(find_form(read_form(form + size), FORMS), form, size)

    @given(st.integers(10, 9999), st.integers(3, 40))
    def test_sizes_are_read_apart_from_the_form(self, cells: int, width: int) -> None:
        self.assertEqual(read_form(f"plug {cells}").cells, cells)
        self.assertEqual(read_form(f"{cells}s").cells, cells)
        pot = read_form(f"{width} cm pots")
        self.assertEqual((pot.width_cm, pot.cells, pot.words), (width, None, frozenset({"pot"})))

    def test_what_could_be_several_is_none(self) -> None:
        self.assertIsNone(find_form(read_form("plant"), ["bare-root plant", "pricked-on plant"]))
        self.assertIsNone(find_form(read_form("pack"), FORMS))
        self.assertEqual(find_form(read_form("module, 3 seeds"), FORMS), "multi-seeded plug")

    @given(st.text(max_size=60))
    def test_no_text_is_too_strange(self, text: str) -> None:
        self.assertEqual(plain(plain(text)), plain(text))
        find_form(read_form(text), FORMS)
