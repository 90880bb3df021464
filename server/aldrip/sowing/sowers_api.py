"""Sowers: the machines, what their trays caught, and what to set next."""

from datetime import datetime
from typing import Any, Literal
from uuid import UUID

from ninja import Field, Schema

from aldrip.accounts.context import Ctx, Ref
from aldrip.accounts.routes import Room
from aldrip.base.errors import refuse
from aldrip.base.quantity import read_measure, split_number
from aldrip.base.schemas import Done
from aldrip.batches.saved import load_batch
from aldrip.sowing import calibrating, scale
from aldrip.sowing.models import Machine

room = Room("sowing")


class MachineIn(Schema):
    """`setting_min`, `setting_max`: from where to where the dial goes; `tolerance_percent`: how near a tray must come."""

    name: str = Field(max_length=80)
    setting_min: float
    setting_max: float
    more_is: Literal["increasing", "decreasing"] = "increasing"
    tolerance_percent: float = 5
    scale_at: str = Field("", max_length=80)
    simulated: bool = False
    note: str = Field("", max_length=300)
    retired: bool = False

    def spec(self) -> calibrating.MachineSpec:
        told = self.dict(exclude={"retired", "tolerance_percent"})
        return calibrating.MachineSpec(**told, tolerance=self.tolerance_percent / 100)


class MachineOut(Schema):
    """`has_scale`: whether it can be asked what a tray caught."""

    id: int
    name: str
    setting_min: float
    setting_max: float
    more_is: Literal["increasing", "decreasing"]
    tolerance_percent: float
    scale_at: str
    simulated: bool
    note: str
    retired: bool
    has_scale: bool

    @staticmethod
    def resolve_tolerance_percent(machine: Machine) -> float:
        return machine.tolerance * 100

    @staticmethod
    def resolve_has_scale(machine: Machine) -> bool:
        return bool(scale.address_of(machine))


@room.get("/machines", "see", response=list[MachineOut])
def machines(ctx: Ctx) -> Any:
    """The sowers of the house."""
    return ctx.rows(Machine).order_by("retired", "name")


@room.post("/machines", "places.edit", response=Done)
def add_machine(ctx: Ctx, body: MachineIn) -> Any:
    """Add a sower."""
    made = calibrating.save_machine(ctx, body.spec())
    return {"id": made.pk, "message": f"{made.name} is there."}


@room.post("/machines/{ref:machine_id}", "places.edit", response=Done)
def change_machine(ctx: Ctx, machine_id: Ref, body: MachineIn) -> Any:
    """Change a sower, or say that it is not in use any more."""
    made = calibrating.save_machine(ctx, body.spec(), machine_id, retired=body.retired)
    return {"id": made.pk, "message": f"{made.name} is kept."}


class TrialOut(Schema):
    """`own`: caught for this batch; others are of the same seed, a short while ago."""

    id: int
    setting: float
    grams: float
    even: bool
    batch_code: str
    own: bool
    at: datetime
    by: str
    reason: str


class CaughtOut(Schema):
    setting: float
    grams: float


class CalibrationOut(Schema):
    """What to set next [dial] and what a tray will catch then [g]; `fault`: why nothing follows from the trials."""

    machine: MachineOut
    target_g: float
    tolerance_g: float
    trials: list[TrialOut]
    next_setting: float | None
    predicted_g: float | None
    low_g: float | None
    high_g: float | None
    settled: bool
    sentence: str
    fault: str
    warnings: list[str]
    curve: list[CaughtOut]


@room.get("/batches/{ref:batch_id}/calibration/{ref:machine_id}", "see", response=CalibrationOut)
def calibration(ctx: Ctx, batch_id: Ref, machine_id: Ref, target_g: float | None = None) -> Any:
    """Where the setting of a machine for a batch stands."""
    batch = load_batch(ctx, batch_id).batch
    wanted = target_g if target_g and target_g > 0 else None
    return calibrating.plain(calibrating.calibration(ctx, ctx.get(Machine, machine_id), batch, wanted))


class TrialIn(Schema):
    """As typed: the setting, what the tray caught, and what it is to catch where that is not as planned."""

    machine_id: int
    setting: str = Field(max_length=20)
    grams: str = Field(max_length=30)
    even: bool = True
    target: str = Field("", max_length=30)
    uuid: UUID
    replaces: int | None = None
    reason: str = Field("", max_length=300)


def read_setting(text: str) -> float:
    """A setting as it stands at the dial. Raises Refused."""
    value, unit = split_number(text, "setting")
    if unit:
        raise refuse("setting", "unit_in_number", f"“{unit}” stands at no dial. Write the setting alone.")
    return value


@room.post("/batches/{ref:batch_id}/trials", "diary.do", response=CalibrationOut)
def record_trial(ctx: Ctx, batch_id: Ref, body: TrialIn) -> Any:
    """Write down what a tray caught, or put right what was written down."""
    made = calibrating.record_trial(
        ctx,
        batch_id,
        body.machine_id,
        setting=read_setting(body.setting),
        grams=read_measure(body.grams, "g", "grams"),
        even=body.even,
        target_g=read_measure(body.target, "g", "target") if body.target.strip() else None,
        client_uuid=body.uuid,
        replaces=body.replaces,
        reason=body.reason,
    )
    return calibrating.plain(calibrating.calibration(ctx, made.machine, made.batch))


class WeighedOut(Schema):
    grams: float


@room.post("/machines/{ref:machine_id}/weigh", "diary.do", response=WeighedOut)
def weigh(ctx: Ctx, machine_id: Ref) -> Any:
    """What lies on the scale of a sower now."""
    return {"grams": scale.weighed(ctx.get(Machine, machine_id))}


class PractiseIn(Schema):
    machine_id: int
    setting: str = Field(max_length=20)
    evenly: bool = True


@room.post("/batches/{ref:batch_id}/practise", "diary.do", response=WeighedOut)
def practise(ctx: Ctx, batch_id: Ref, body: PractiseIn) -> Any:
    """Let the sower for practice sow a tray of a batch: what its scale says. Nothing is written down by it."""
    machine = ctx.get(Machine, body.machine_id)
    wanted = calibrating.calibration(ctx, machine, load_batch(ctx, batch_id).batch).target_g
    setting = read_setting(body.setting)
    return {"grams": scale.sow_for_practice(machine, setting, evenly=body.evenly, of_g=wanted)}
