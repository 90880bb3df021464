"""Photos and notes of a visit: kept once with their entry, small, without where they were taken, and for nobody else."""

import base64
import io
from datetime import date
from typing import Any

from django.test import Client
from PIL import Image

from aldrip.accounts.models import AuditEvent
from aldrip.base.photos import MOST
from aldrip.seedcrops.models import InspectionCount, InspectionPhoto
from tests.server.house import make_house, uid
from tests.server.seed_house import SeedCase


def taken(kind: str = "JPEG", size: tuple[int, int] = (2400, 1800)) -> str:
    """A photo with a camera's notes in it, lying on its side."""
    picture, out = Image.radial_gradient("L").resize(size).convert("RGB"), io.BytesIO()
    exif = Image.Exif()
    exif[0x010F], exif[0x0112] = "A maker", 6
    picture.save(out, kind, exif=exif, quality=20)
    return base64.b64encode(out.getvalue()).decode()


class Photos(SeedCase):
    @classmethod
    def setUpTestData(cls) -> None:
        super().setUpTestData()
        told = cls.teller()
        cls.visit = told.sown().inspections.get(number=1)
        told.on(date(2027, 6, 28))

    def send(self, **entry: Any) -> dict[str, Any]:
        body = {"client_uuid": uid(), "area": 2, **entry}
        return {**self.post(f"/inspections/{self.visit.pk}/counts", {"entries": [body, body]}), "sent": body}

    def test_it_is_kept_once_small_upright_and_without_the_cameras_notes(self) -> None:
        answer = self.send(photo=taken(), note="mildew on the lower leaves")
        note = answer["inspection"]["notes"][0]
        self.assertEqual((note["area"], note["note"], note["photo"]), (2, "mildew on the lower leaves", True))
        self.assertEqual((InspectionCount.objects.count(), InspectionPhoto.objects.count()), (1, 1))
        self.assertIn("Added 1 note to area 2", AuditEvent.objects.latest("id").sentence)
        self.assertEqual((answer["inspection"]["plants"], answer["inspection"]["last"][0]["words"]), (0, note["note"]))
        got = self.client.get(f"/api/inspections/{self.visit.pk}/photos/{note['uuid']}")
        self.assertEqual(got["Content-Type"], "image/jpeg")
        with Image.open(io.BytesIO(got.content)) as kept:
            self.assertEqual((kept.size, dict(kept.getexif())), ((1200, 1600), {}))

    def test_taken_back_it_is_shown_no_more(self) -> None:
        sent = self.send(photo=taken(size=(80, 60)))["sent"]
        answer = self.send(takes_back=sent["client_uuid"])
        self.assertEqual(answer["inspection"]["notes"], [])

    def test_what_is_no_photo_is_told_and_what_was_counted_beside_it_is_kept(self) -> None:
        huge = Image.new("1", (6000, 6000))
        out = io.BytesIO()
        huge.save(out, "PNG")
        for bad in (
            "no base64 !",
            base64.b64encode(b"<svg/>").decode(),
            base64.b64encode(out.getvalue()).decode(),
            taken()[: 4 * 300],
            "A" * (MOST + 4),
        ):
            entries = [{"client_uuid": uid(), "area": 1, "photo": bad}, {"client_uuid": uid(), "area": 1, "plants": 3}]
            answer = self.post(f"/inspections/{self.visit.pk}/counts", {"entries": entries})
            self.assertEqual([(one["kept"], one["code"]) for one in answer["entries"]], [(False, "photo"), (True, "")])
            self.assertRegex(answer["entries"][0]["message"], "photo")
        self.assertFalse(InspectionPhoto.objects.exists())

    def test_another_house_and_another_visit_do_not_see_it(self) -> None:
        note = self.send(photo=taken(size=(80, 60)))["inspection"]["notes"][0]
        stranger = make_house("Elsewhere", username="eve")
        client = Client()
        assert stranger.user is not None
        client.force_login(stranger.user)
        for caller, visit in ((client, self.visit.pk), (self.client, self.visit.block.inspections.get(number=2).pk)):
            self.assertEqual(caller.get(f"/api/inspections/{visit}/photos/{note['uuid']}").status_code, 404)
