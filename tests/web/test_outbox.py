"""What is counted without a signal: kept, sent once, forgotten only when it is there; nothing is mixed up."""

from typing import Any

from tests.web.bridge import WebCase


class Outbox(WebCase):
    number = 0

    def setUp(self) -> None:
        Outbox.number += 10
        self.sheet = Outbox.number  # no test meets what another one left
        self.other = self.sheet + 1

    def names(self, count: int, of: str = "a") -> list[str]:
        return [f"{self.sheet}-{of}{n:04d}" for n in range(count)]

    def story(self, *steps: dict[str, Any]) -> list[dict[str, Any]]:
        found: list[dict[str, Any]] = self.web("outboxStory", list(steps))
        return found

    def test_what_arrives_is_forgotten_and_sent_no_more(self) -> None:
        names = self.names(3)
        first, second = self.story(
            {"keep": names, "inspection": self.sheet, "send": [self.sheet]}, {"send": [self.sheet]}
        )
        self.assertEqual((first["sent"][0]["state"], first["bodies"], first["left"]), ("sent", [names], [[]]))
        self.assertEqual((second["bodies"], second["sent"][0]), ([], {"state": "sent", "sheet": None}))

    def test_while_nothing_answers_everything_waits_in_the_order_of_the_taps(self) -> None:
        late, early = self.names(1, "x"), self.names(1, "z")
        for answer in ("nothing", 500, 502, 503):
            told = self.story(
                {"keep": late, "inspection": self.sheet, "at": "2027-07-06T08:00:02.000Z"},
                {"keep": early, "inspection": self.sheet, "at": "2027-07-06T08:00:01.000Z", "send": [self.sheet], "answer": answer},
            )[0]
            self.assertEqual(told["sent"], [{"state": "no signal"}], answer)
            self.assertEqual(told["left"], [[[early[0], ""], [late[0], ""]]])
        back = self.story({"send": [self.sheet]})[0]
        self.assertEqual((back["bodies"], back["left"]), ([[*early, *late]], [[]]))

    def test_what_the_server_refuses_stays_with_its_words_and_is_not_sent_again(self) -> None:
        good, bad = self.names(2)
        first, second = self.story(
            {"keep": [good, bad], "inspection": self.sheet, "send": [self.sheet], "refuse": [bad]}, {"send": [self.sheet]}
        )
        self.assertEqual(first["left"], [[[bad, "no such area"]]])
        self.assertEqual(second["bodies"], [])

    def test_signed_out_and_closed_are_told_apart_and_lose_nothing(self) -> None:
        names = self.names(1)
        self.story({"keep": names, "inspection": self.sheet})
        for answer, state in ((401, "sign in"), (403, "sign in"), (409, "closed"), (422, "closed"), (404, "closed")):
            told = self.story({"send": [self.sheet], "answer": answer})[0]
            self.assertEqual(told["sent"][0]["state"], state, answer)
            self.assertEqual(told["left"], [[[names[0], ""]]])
        self.assertEqual(told["sent"][0]["message"], "said by the server")

    def test_two_sheets_sent_at_once_get_each_its_own_answer(self) -> None:
        self.story({"keep": self.names(2), "inspection": self.sheet}, {"keep": self.names(3, "b"), "inspection": self.other})
        told = self.story({"send": [self.sheet, self.other], "slow": 20})[0]
        self.assertEqual([one["sheet"]["id"] for one in told["sent"]], [self.sheet, self.other])
        self.assertEqual([one["sheet"]["plants"] for one in told["sent"]], [2, 3])
        self.assertEqual(told["left"], [[], []])

    def test_one_sheet_asked_twice_at_once_is_sent_once(self) -> None:
        names = self.names(4)
        told = self.story({"keep": names, "inspection": self.sheet, "send": [self.sheet, self.sheet], "slow": 20})[0]
        self.assertEqual(told["bodies"], [names])

    def test_a_day_without_a_signal_goes_out_in_parts_the_server_takes(self) -> None:
        names = self.names(1203)
        told = self.story({"keep": names, "inspection": self.sheet, "send": [self.sheet]})[0]
        self.assertEqual([len(body) for body in told["bodies"]], [500, 500, 203])
        self.assertEqual(sorted(sum(told["bodies"], [])), names)
        self.assertEqual(told["left"], [[]])

    def test_the_table_that_answers_leave_out_stays_on_the_phone(self) -> None:
        sheet = {"id": self.sheet, "plants": 0, "table": {"sample": 2000}}
        told = self.story({"sheet": sheet, "keep": self.names(1), "inspection": self.sheet, "send": [self.sheet]})[0]
        self.assertEqual(told["tables"], [{"sample": 2000}])
        self.assertEqual(told["sent"][0]["sheet"]["table"], {"sample": 2000})
