"""What must be true of every answer: each oracle rebuilds or solves around it. All take a case from `small_models`."""

from __future__ import annotations

import copy
import pickle
from collections.abc import Callable
from pathlib import Path

import numpy as np
import pandas as pd

import ruddock as rk
from tests.small_models import NASTY, Case, Twist, case, twists


def same(found: rk.Plan, truth: rk.Plan, what: str, scale: float = 1.0) -> None:
    """Two solves end alike: the status, and every objective."""
    assert found.status == truth.status, f"{what}: {found.status}, not {truth.status}"
    if truth.found:
        a, b = found.objectives(), truth.objectives()
        assert np.allclose(a["value"], b["value"], rtol=1e-7, atol=1e-6 * scale), f"{what}:\n{a}\n{b}"


def what_if_is_rebuilding(seed: int, tmp: Path, scale: float = 1.0) -> None:
    """A what-if is the plan of the model built with the changed number; the model stays as it is."""
    one = case(seed, scale=scale)
    model = one.build()
    base = model.solve()
    for twist in twists(one, seed):
        found = model.what_if([twist.words])
        same(found.changed, twist.case(one, twist.value).build().solve(), f"{seed} {twist.words}", scale)
        same(found.base, base, f"{seed} base", scale)
        if found.both:
            assert np.isclose(found.difference, found.changed.objective - base.objective)
    same(model.solve(), base, f"{seed} afterwards", scale)


def scenarios_are_rebuilding(seed: int, tmp: Path, scale: float = 1.0) -> None:
    """Each scenario is the plan of the model built with its numbers, several at a time."""
    one = case(seed, scale=scale)
    asked = {t.what: t for t in twists(one, seed) if not t.what.endswith("*")}
    rows, truths = [], []
    for chosen in ([name] for name in asked), [list(asked)]:
        for names in chosen:
            changed = one
            for name in names:
                changed = asked[name].case(changed, asked[name].value)
            rows.append({"scenario": "+".join(names), **{name: asked[name].value for name in names}})
            truths.append(changed.build().solve())
    study = one.build().scenarios(pd.DataFrame(rows))
    for result, truth in zip(study.results, truths, strict=True):
        name = f"{seed} {result}"
        assert result.status == truth.status, name
        assert not truth.found or np.allclose(
            list(result.objectives.values()), truth.objectives()["value"], atol=1e-6 * scale
        ), name


def sweeps_are_solving_around(seed: int, tmp: Path, scale: float = 1.0) -> None:
    """Where a sweep has a value, solving there has the same; where it has none there is no plan."""
    one = case(seed, scale=scale)
    model = one.build()
    rng = np.random.default_rng([seed, 79])
    for twist in twists(one, seed)[int(rng.integers(0, 3)) :: 3]:
        start, stop = (0.5, 2.0) if twist.what.endswith("*") else (2.0 * scale, 13.0 * scale)
        found = model.sweep(twist.what, start, stop, points=4)
        places = [*found.points.index, *found.notes]
        if found.exact:
            places = [*places, *rng.uniform(start, stop, 3)]
        for at in places:
            truth = twist.case(one, float(at)).build().solve()
            value = found.objective(float(at))
            edge = found.feasible is not None and min(abs(at - end) for end in found.feasible) < 1e-6 * scale
            if truth.found:
                assert edge or np.isclose(value, truth.objective, rtol=1e-6, atol=1e-6 * scale), (
                    f"{seed} sweep {twist.what} at {at}: {value}, not {truth.objective}"
                )
            else:
                assert edge or np.isnan(value), f"{seed} sweep {twist.what} at {at}: {value}, {truth.status}"


def reach_is_solving_around(seed: int, tmp: Path, scale: float = 1.0) -> None:
    """At the value reached the target is met; a little tighter it is not; where none is said, none does."""
    one = case(seed, scale=scale)
    model = one.build()
    base = model.solve()
    if not base.found:
        return
    better = 1 if one.flags["maximize"] else -1
    for twist in twists(one, seed):
        if twist.what.startswith("extra_cost"):
            continue  # a coefficient has no tightest value
        for target in (base.objective + better * 2 * scale, base.objective - better * 2 * scale):
            found = model.reach(twist.what, objective=target)
            what = f"{seed} reach {twist.what} {target}"
            if found.value is None:
                assert found.status == "infeasible", what
                ends = (0, 2) if twist.what.endswith("*") else (2 * scale, 20 * scale)
                assert not any(_meets(one, twist, float(at), target) for at in np.linspace(*ends, 9)), what
            elif np.isfinite(found.value):
                tight = -1 if twist.what.startswith(("supply", "ship", "room", "extra.")) else 1
                near = (found.value, found.value - 1e-7 * max(1.0, abs(found.value)) * tight)
                assert any(_meets(one, twist, at, target) for at in near), f"{what}: not met at {found.value}"
                nearer = found.value + tight * max(
                    1e-3 * (1.0 if twist.what.endswith("*") else scale), 1e-3 * abs(found.value)
                )
                assert not _meets(one, twist, nearer, target), f"{what}: met beyond {found.value}"


def _meets(one: Case, twist: Twist, at: float, target: float) -> bool:
    """Solve the case with the twist at a value, and say whether its objective is as good as the target."""
    if at < (one.numbers["extra_lower"] * one.scale if twist.what == "extra.upper" else 0.0):
        return False
    plan = twist.case(one, at).build().solve()
    better = 1 if one.flags["maximize"] else -1
    return plan.found and better * (plan.objective - target) >= -1e-6 * one.scale


def an_optimum_is_appraised_as_one(seed: int, tmp: Path, scale: float = 1.0) -> None:
    """A best plan given by hand breaks nothing and is worth what it was."""
    model = case(seed, scale=scale).build()
    plan = model.solve()
    if plan.found:
        found = model.appraise(plan.decisions()["value"])
        assert found.feasible, f"{seed}: {found.violations}"
        assert np.isclose(found.plan.objective, plan.objective, atol=1e-6 * scale), (
            f"{seed} {found.plan.objective} {plan.objective}"
        )
        assert abs(found.gain) <= 1e-6 * scale, f"{seed} gain {found.gain}"


def one_more_is_solving_with_one_more(seed: int, tmp: Path, scale: float = 1.0) -> None:
    """The price of a limit, up and down, is the slope of solving with a little more and a little less."""
    one = case(seed, whole=False, used=False, either=False, several=False, curve=False, scale=scale)
    model = one.build()
    plan = model.solve()
    if not plan.found:
        return
    table = plan.sensitivity().limits
    little = 1e-3 * scale
    for name, row in table.iterrows():
        if str(name).startswith("steady"):
            continue  # its limit has decisions on both sides
        for word, step in (("one_more", little), ("one_less", -little)):
            change = f"{name}{'.upper' if row['relation'] == '<=' else '.lower'}" if str(name) == "room" else str(name)
            near = model.what_if([f"{change}{'+' if step > 0 else '-'}={little:.15g}"]).changed
            price = row[word]
            if near.found:
                truth = (near.objective - plan.objective) / little
                assert np.isclose(price, truth, rtol=1e-5, atol=1e-5), f"{seed} {name} {word}: {price}, not {truth}"
            else:
                assert not np.isfinite(price), f"{seed} {name} {word}: {price}, {near.status}"


def a_clash_is_one_and_needs_each_member(seed: int, tmp: Path, scale: float = 1.0) -> None:
    """The members of a clash alone have no plan; without any one of them they do. Every repair leaves a plan."""
    one = case(seed, either=False, scale=scale)
    one = one.changed("need", (0,), 40.0)
    model = one.build()
    found = model.diagnose()
    assert found.plan.status == "infeasible" and found.clashes, seed
    for clash in found.clashes:
        members = [(reason.name, reason.what, reason.relation) for reason in clash.reasons]
        assert clash.proven, seed
        assert held(one, members) == "infeasible", f"{seed} {members} have a plan"
        for left_out in members:
            if left_out[0].startswith("used") and any(what == "rule" for _, what, _ in members):
                continue
            rest = [member for member in members if member != left_out]
            family = left_out[0].partition("[")[0]
            if left_out[1] == "rule" and any(what == "rule" and name.startswith(family) for name, what, _ in rest):
                continue  # `held` leaves out whole families of rules
            assert held(one, rest) != "infeasible", f"{seed} {members} clash without {left_out}"
    for repair in found.repairs:
        assert repair.plan.found, seed
        if any(move.new is None for move in repair.changes):
            continue  # of constraints with decisions on both sides, which have no limit to set
        changed = model.what_if({f"{m.name}{side(m.name, m.relation)}": m.new for m in repair.changes}).changed
        same(changed, repair.plan, f"{seed} repair {repair.changes}")


def side(name: str, relation: str) -> str:
    """Return what names the side of a range that a repair moves."""
    return {"<=": ".upper", ">=": ".lower"}.get(relation, "") if name == "room" else ""


def held(one: Case, members: list[tuple[str, str, str]]) -> str:
    """Solve with nothing but these members in force."""
    model = one.build()
    f = model.formulation()
    named = {(name, what) for name, what, _ in members}
    bounds = {(name, relation) for name, what, relation in members if what == "bound"}
    for rule in f.rules:
        if not any(name == rule.name or name.startswith(f"{rule.name}[") for name, what in named if what == "rule"):
            model.remove(rule.name)
    changes = []
    for family in f.constraints:
        changes += [
            f"{family.member(k)}=off" for k in range(family.cells.size) if (family.member(k), "constraint") not in named
        ]
    for family in f.decisions:
        if family.kind == "binary" and any(what == "rule" for _, what in named):
            continue  # a rule asks for the yes/no decision that its condition is
        for k in range(len(family)):
            name = family.member(k)
            if family.kind != "continuous" and (name, "integer") not in named:
                changes.append(f"{name}.kind=continuous")
            for relation, end in ((">=", "lower"), ("<=", "upper")):
                if (name, relation) not in bounds and (name, "==") not in bounds:
                    changes.append(f"{name}.{end}=off")
    try:
        return model.what_if(changes).changed.status if changes else model.solve().status
    except rk.ModelError as error:
        if "nothing limits" not in str(error):
            raise
        return "no room"  # without its bounds a rule has no room, so it clashes with nothing


def every_form_comes_back(seed: int, tmp: Path) -> None:
    """Written and read, copied, deep-copied and pickled, a model is the same: its plans and its words."""
    one = case(seed)
    model = one.build()
    truth, words = model.solve(), str(model.algebra())
    one_objective = not one.flags["several"]
    rules = one.flags["used"] or one.flags["either"] or one.flags["curve"]
    endings = ["rdk", "json", *(["mps", "csv"] if one_objective and not rules else [])]
    for ending in endings:
        path = tmp / f"{seed}.{ending}"
        model.write(path)
        back = rk.read(path)
        same(back.solve(), truth, f"{seed} {ending}")
        if ending in ("rdk", "json"):
            again = tmp / f"{seed}-again.{ending}"
            back.write(again)
            assert again.read_text() == path.read_text(), f"{seed} {ending} written again differs"
    for way in (copy.copy, copy.deepcopy, lambda x: pickle.loads(pickle.dumps(x))):
        back = way(model)
        assert str(back.algebra()) == words, seed
        same(back.solve(), truth, f"{seed} {way}")
    plan = pickle.loads(pickle.dumps(truth))
    assert str(plan) == str(truth)


def names_do_not_matter(seed: int, tmp: Path) -> None:
    """With labels that look like words of the text form, formulas or cells, every answer is the same."""
    plain, nasty = case(seed), case(seed)
    nasty.labels = NASTY
    one, other = plain.build(), nasty.build()
    truth = one.solve()
    same(other.solve(), truth, f"{seed} names")
    for a, b in zip(twists(plain, seed), twists(nasty, seed), strict=True):
        same(other.what_if([b.words]).changed, one.what_if([a.words]).changed, f"{seed} {b.words}")
    for ending in ("rdk", "json"):
        path = tmp / f"nasty-{seed}.{ending}"
        other.write(path)
        same(rk.read(path).solve(), truth, f"{seed} nasty {ending}")


ORACLES: dict[str, Callable[[int, Path], None]] = {
    oracle.__name__: oracle
    for oracle in (
        what_if_is_rebuilding,
        scenarios_are_rebuilding,
        sweeps_are_solving_around,
        reach_is_solving_around,
        an_optimum_is_appraised_as_one,
        one_more_is_solving_with_one_more,
        a_clash_is_one_and_needs_each_member,
        every_form_comes_back,
        names_do_not_matter,
    )
}
