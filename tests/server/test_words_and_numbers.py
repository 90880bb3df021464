"""Quantities as typed, tables as brought, words as written: the edges of what people enter and read."""

from collections.abc import Callable
from datetime import date

from django.test import SimpleTestCase

from aldrip.base import words
from aldrip.base.importing import neutral, read_file, read_text
from aldrip.base.quantity import read_count, read_measure, split_number
from aldrip.calc import contract
from aldrip_core.refusal import Refused


class Typed(SimpleTestCase):
    def test_counts_in_the_ways_people_write_them(self) -> None:
        for text, value in (
            ("12000", 12000),
            ("12,000", 12000),
            ("12 000", 12000),
            ("12'000", 12000),
            ("12k", 12000),
            ("1.5k", 1500),
            (" 7 ", 7),
            ("2 million", 2_000_000),
            ("+5", 5),
            ("1,234,567", 1_234_567),
        ):
            self.assertEqual(read_count(text, "q"), value, text)

    def test_what_is_no_count_says_which_kind_of_wrong(self) -> None:
        for text, code in (
            ("", "not_a_number"),
            ("many", "not_a_number"),
            ("12,00", "ambiguous"),
            ("7.000", "ambiguous"),
            ("-3", "negative"),
            ("0", "nothing"),
            ("1.5", "not_whole"),
            ("12 trays", "unit_in_number"),
            ("10000001", "too_large"),
            ("1e5", "unit_in_number"),
            ("1.2.3", "not_a_number"),
            ("--5", "not_a_number"),
            ("٣", "not_a_number"),
        ):
            with self.assertRaises(Refused, msg=text) as caught:
                read_count(text, "q")
            self.assertEqual(caught.exception.errors[0].code, code, text)
            self.assertEqual(caught.exception.errors[0].field, "q")

    def test_points_and_commas_are_read_where_they_can_mean_one_thing_and_asked_about_where_not(self) -> None:
        for text, value in (
            ("12,5", 12.5),
            ("0,250 kg", 0.25),
            ("0.250", 0.25),
            ("1.234,5", 1234.5),
            ("3.141.592", 3_141_592),
            ("4’500", 4500),
            ("6 300,25 g", 6300.25),
            ("48.215 g", 48.215),
        ):
            self.assertEqual(split_number(text, "x")[0], value, text)
        for text in ("8.000", "1.750 kg", "2.500 g"):
            with self.assertRaises(Refused, msg=text) as caught:
                split_number(text, "x")
            self.assertEqual(caught.exception.errors[0].code, "ambiguous", text)
        self.assertEqual(self.code(lambda: split_number("48.215", "x", whole=True)), "ambiguous")

    def code(self, read: Callable[[], object]) -> str:
        with self.assertRaises(Refused) as caught:
            read()
        return caught.exception.errors[0].code

    def test_measures_are_converted_and_odd_units_refused(self) -> None:
        for text, unit, value in (
            ("7.1", "g", 7.1),
            ("7.1 g", "g", 7.1),
            ("1 kg", "g", 1000),
            ("500 mg", "g", 0.5),
            ("68 F", "°C", 20.0),
            ("20 °C", "°C", 20.0),
            ("95 %", "share", 0.95),
            ("2 m2", "m²", 2.0),
            ("10 sq ft", "m²", 0.9290304),
            ("2 lb 4 oz", "g", 36 * 28.349523125),  # the international pound, 0.453 592 37 kg exactly
            ("1 oz/sq yd", "g/m²", 28.349523125 / 0.83612736),
            ("62½", "g", 62.5),
            ("½ oz", "g", 28.349523125 / 2),
            ("5 ft 6 in", "cm", 167.64),
            ("2 US gal", "L", 2 * 3.785411784),
            ("1100 imp gal", "L", 1100 * 4.54609),  # the handbook's 5,000 L on an acre
        ):
            self.assertAlmostEqual(read_measure(text, unit, "m"), value, places=6, msg=text)
        for text in ("3 furlongs per", "x", "5 lb", "4 __import__"):
            with self.assertRaises(Refused, msg=text):
                read_measure(text, "°C" if text.startswith("5") else "g", "m")

    def test_what_is_not_the_same_everywhere_is_asked_and_never_guessed(self) -> None:
        for text, unit in (
            ("2 gal", "L"),
            ("3 Gallons", "L"),
            ("1 pt", "L"),
            ("2 fl oz", "mL"),
            ("1 ton", "kg"),
            ("2 cwt", "kg"),
        ):
            with self.subTest(text), self.assertRaises(Refused) as told:
                read_measure(text, unit, "m")
            self.assertEqual(told.exception.errors[0].code, "ambiguous_unit")
            self.assertRegex(told.exception.errors[0].message, r"US|short.*(imperial|long)")

    def test_numbers_and_units_are_told_apart(self) -> None:
        self.assertEqual(split_number("2 lb", "x"), (2.0, "lb"))
        self.assertEqual(split_number(".5g", "x"), (0.5, "g"))


class Brought(SimpleTestCase):
    def test_separators_quotes_and_empty_lines(self) -> None:
        for text in ("a;b\n1;2\n\n3;4\n", "a\tb\r\n1\t2\r\n3\t4\r\n", 'a,b\n"1","2"\n3,4', "a|b\n1|2\n3|4"):
            table = read_text(text)
            self.assertEqual((table.headings, table.rows), (["a", "b"], [["1", "2"], ["3", "4"]]), text)
        self.assertEqual(read_text("a;b\n1;2\n\n3;4\n").lines, [2, 4])

    def test_rows_shorter_and_longer_than_their_headings(self) -> None:
        table = read_text("a,b,c\n1\n1,2,3,4\n")
        self.assertEqual(table.rows, [["1", "", ""], ["1", "2", "3"]])

    def test_too_many_rows_are_refused_with_both_numbers(self) -> None:
        with self.assertRaises(Refused) as caught:
            read_text("a\n" + "1\n" * 5001)
        self.assertIn("5,001", caught.exception.errors[0].message)

    def test_a_file_that_is_neither_text_nor_sheet(self) -> None:
        with self.assertRaises(Refused):
            read_file("x.csv", b"\x81\x8d\x8f\x90\x9d")

    def test_no_cell_leaves_as_a_formula(self) -> None:
        for value in ("=1", "+1", "-1", "@x", "\tx"):
            self.assertTrue(neutral(value).startswith("'"))
        self.assertEqual((neutral("plain"), neutral(5)), ("plain", 5))


class Written(SimpleTestCase):
    def test_figures_days_and_plurals(self) -> None:
        self.assertEqual(words.number(12345.6), "12,346")
        self.assertEqual((words.grams(0.0123), words.grams(7.14), words.grams(2500)), ("0.0123 g", "7.1 g", "2.50 kg"))
        self.assertEqual(words.day(date(2027, 3, 2)), "Tue 2 Mar, week 9")
        self.assertEqual(words.day(date(2027, 3, 2), year=True), "Tue 2 Mar 2027")
        self.assertEqual((words.share(0.614), words.share(0.0125, 1)), ("61 %", "1.2 %"))
        self.assertEqual((words.plural(1, "batch", "batches"), words.plural(3, "line")), ("1 batch", "3 lines"))

    def test_every_refusal_of_a_calculator_ends_its_sentences(self) -> None:
        for name, body in (
            ("ladder", "{}"),
            ("oversow", '{"needed": -1, "chance": 7, "rate": "x"}'),
            ("media", '{"parts": 5}'),
            ("bench-space", '{"batches": [{}], "capacity_m2": -1}'),
            ("seed-rate", "[]"),
            ("thermal-time", "null"),
        ):
            with self.assertRaises(Refused) as caught:
                contract.calculate(name, body)
            for error in caught.exception.errors:
                self.assertTrue(error.message.endswith("."), (name, error))
                self.assertNotIn("..", error.message)
