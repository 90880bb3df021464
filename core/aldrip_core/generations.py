"""Generations: from kilos of the final class back to land and parent seed of the classes above."""

from collections.abc import Sequence
from dataclasses import dataclass
from typing import ClassVar

from aldrip_core.refusal import Warn, refuse
from aldrip_core.working import Given, Step, Working, computed


@dataclass(frozen=True, slots=True)
class ParentInput:
    """Seed of one parent line sown per hectare of the whole block [kg/ha]."""

    line: str
    seed_rate_kg_per_ha: float


@dataclass(frozen=True, slots=True)
class GenerationStep:
    """One class: clean yield basis [kg/ha], recovery [0-1], and what is sown for it.

    `of_line` says which parent line of the step below this one multiplies, where there are several.
    """

    seed_class: str
    yield_kg_per_ha: float
    recovery: float
    seed_rate_kg_per_ha: float | None = None
    inputs: tuple[ParentInput, ...] = ()
    of_line: str | None = None


@dataclass(frozen=True, slots=True)
class Generation:
    """What one class takes: area [ha], clean seed it must give [kg], seed that goes in [kg]."""

    seed_class: str
    area_ha: float
    clean_kg: float
    seed_in_kg: float | None = None
    seed_in_kg_by_line: dict[str, float] | None = None

    json_names: ClassVar = {"seed_class": "class"}


@dataclass(frozen=True, slots=True)
class Generations:
    """The classes from the final one upward."""

    steps: tuple[Generation, ...]
    working: Working = ()
    warnings: tuple[Warn, ...] = ()

    nullable: ClassVar = ()


def generations(*, need_kg: float, steps: Sequence[GenerationStep], reserve: float = 0.0) -> Generations:
    """Work back from clean kilos of the final class, class by class.

    `area = clean ÷ (yield × recovery)`, `seed in = area × seed rate`, which the class above must give
    clean. The reserve [share] is added to the need once. Yields and rates of a hybrid are per hectare
    of the whole block, both parents and borders. Raises Refused when nothing is recovered or a step
    says neither or both kinds of seed rate. Source: arithmetic; common practice, no source.

    >>> result = generations(need_kg=1000, steps=[GenerationStep("certified", 2000, 0.8, 25)])
    >>> result.steps[0].area_ha, result.steps[0].seed_in_kg
    (0.625, 15.625)
    """
    clean = need_kg * (1 + reserve)
    done: list[Generation] = []
    working: list[Step] = [
        Step(
            "Clean seed wanted",
            "need × (1 + reserve)",
            (Given("need", need_kg, "kg"), Given("reserve", reserve, "share")),
            clean,
            "kg",
        )
    ]
    warnings: list[Warn] = []
    for index, step in enumerate(steps):
        _check(step, index)
        if index:
            clean, told = _asked_of(done[-1], step, index)
            warnings.extend(told)
        area = clean / (step.yield_kg_per_ha * step.recovery)
        working.append(
            Step(
                f"{step.seed_class}: area",
                "clean seed ÷ (yield × recovery)",
                (
                    computed("clean seed", clean, "kg"),
                    Given("yield", step.yield_kg_per_ha, "kg/ha"),
                    Given("recovery", step.recovery, "share"),
                ),
                area,
                "ha",
            )
        )
        by_line = {one.line: area * one.seed_rate_kg_per_ha for one in step.inputs} or None
        seed_in = None if step.seed_rate_kg_per_ha is None else area * step.seed_rate_kg_per_ha
        for line, kilos in (by_line or {"seed": seed_in or 0.0}).items():
            working.append(
                Step(
                    f"{step.seed_class}: {line} sown", "area × seed rate", (computed("area", area, "ha"),), kilos, "kg"
                )
            )
        done.append(Generation(step.seed_class, area, clean, seed_in, by_line))
    return Generations(tuple(done), tuple(working), tuple(warnings))


def _check(step: GenerationStep, index: int) -> None:
    if step.yield_kg_per_ha * step.recovery <= 0:
        raise refuse(
            f"steps.{index}.recovery",
            "unreachable",
            f"“{step.seed_class}” gives no clean seed at that yield and recovery, so no area is enough.",
        )
    if (step.seed_rate_kg_per_ha is None) == (not step.inputs):
        raise refuse(
            f"steps.{index}.seed_rate_kg_per_ha",
            "one_of",
            f"Say for “{step.seed_class}” either one seed rate, or one for each parent line.",
        )
    names = [one.line for one in step.inputs]
    if len(set(names)) != len(names):
        raise refuse(f"steps.{index}.inputs", "twice", "A parent line stands there twice; name each once.")


def _asked_of(below: Generation, step: GenerationStep, index: int) -> tuple[float, list[Warn]]:
    """Clean kilos that the step below asks of this one."""
    if below.seed_in_kg_by_line is None:
        return below.seed_in_kg or 0.0, []
    if step.of_line is not None:
        if step.of_line not in below.seed_in_kg_by_line:
            known = ", ".join(below.seed_in_kg_by_line)
            raise refuse(f"steps.{index}.of_line", "unknown_line", f"The step below sows {known}, not {step.of_line}.")
        return below.seed_in_kg_by_line[step.of_line], []
    total = sum(below.seed_in_kg_by_line.values())
    if len(below.seed_in_kg_by_line) < 2:
        return total, []
    text = f"“{step.seed_class}” is reckoned for both parent lines together, {total:,.1f} kg; give of_line to reckon one of them."
    return total, [Warn("lines_together", text)]
