"""The work of a batch of setts, on its card: tubers to choose, hours at the knife, dips, shade, bed, ridges."""

from collections.abc import Sequence

from aldrip.accounts.context import Ctx, Ref
from aldrip.base.quantity import read_measure
from aldrip.batches.saved import load_batch
from aldrip_core.sett_work import SettHabit, sett_work
from aldrip_core.sowing_chain import Link
from aldrip_core.stages import Part

#: Of each measure that may be typed its unit; empty text leaves what is usual.
MEASURES = {
    "tuber_g": "g",
    "sett_g": "g",
    "footprint_cm2": "cm²",
    "bed_width_cm": "cm",
    "an_hour": "",
    "dip_kg": "kg",
    "dip_l": "L",
}


def setts_of(ctx: Ctx, batch_id: Ref, typed: dict[str, str]) -> Sequence[Link]:
    """Every figure of a batch that is cut out of tubers; none where it is not. Raises Refused."""
    saved = load_batch(ctx, batch_id)
    root = saved.method.root
    cut = next((one for one in saved.method.stages if one.after == root.key and one.factor.mean > 1), None)
    if root.takes is not Part.TUBER or cut is None:
        return ()
    bed = next((one for one in saved.method.stages if one.after == cut.key), None)
    habit = {
        name: read_measure(typed[name], unit, name) for name, unit in MEASURES.items() if typed.get(name, "").strip()
    }
    if "footprint_cm2" not in habit and bed is not None and bed.unit_m2:
        habit["footprint_cm2"] = bed.unit_m2 * 10_000
    laid = float(saved.stages[cut.key].out)
    sprouted = float(saved.stages[bed.key].out) if bed is not None else laid
    return sett_work(laid=laid, sprouted=sprouted, habit=SettHabit(**habit))
