"""A change is sent under a key until it is answered; the key of what was not answered is kept for the next press."""

from typing import Any

from tests.web.bridge import WebCase

LOST = ["nothing", "nothing", "nothing"]


class Pressed(WebCase):
    def story(self, *presses: dict[str, Any]) -> list[dict[str, Any]]:
        found: list[dict[str, Any]] = self.web("onceStory", list(presses))
        return found

    def test_a_lost_answer_is_asked_for_again_by_itself_under_the_same_key(self) -> None:
        for first in ("nothing", 502, 503, 504):
            told = self.story({"answers": [first, 200]})[0]
            self.assertEqual((told["end"], len(told["keys"]), len(set(told["keys"]))), (200, 2, 1), first)

    def test_pressed_again_unchanged_it_is_the_same_and_changed_or_answered_another(self) -> None:
        body, other = {"title": "Sweep"}, {"title": "Sweep twice"}
        lost, again, changed, anew = self.story(
            {"answers": LOST, "body": body},
            {"answers": [200], "body": body},
            {"answers": [200], "body": other},
            {"answers": [200], "body": body},
        )
        self.assertEqual((lost["end"], len(lost["keys"])), ("no answer", 3))
        self.assertEqual(again["keys"], lost["keys"][:1])
        self.assertEqual(len({lost["keys"][0], changed["keys"][0], anew["keys"][0]}), 3)

    def test_a_refusal_is_an_answer_and_ends_it(self) -> None:
        refused, mended = self.story({"answers": [422], "ours": True}, {"answers": [200]})
        self.assertEqual((refused["end"], len(refused["keys"])), (422, 1))
        self.assertNotEqual(refused["keys"], mended["keys"])

    def test_what_the_server_itself_calls_too_much_is_not_asked_three_times_and_what_it_asks_back_is(self) -> None:
        much, away = self.story(
            {"answers": [503], "ours": True}, {"answers": [503, 503, 200], "ours": True, "again": True}
        )
        self.assertEqual((much["end"], len(much["keys"])), (503, 1))
        self.assertEqual((away["end"], len(set(away["keys"]))), (200, 1))

    def test_without_a_signal_it_says_so_only_where_it_is_sure(self) -> None:
        off, fell = self.story({"answers": ["nothing"], "offline": True}, {"answers": LOST})
        self.assertEqual((off["end"], len(off["keys"])), ("not sent", 1))
        self.assertEqual(fell["end"], "no answer")

    def test_what_is_only_read_has_no_key(self) -> None:
        self.assertEqual(self.story({"answers": [200], "method": "GET"})[0]["keys"], [None])
