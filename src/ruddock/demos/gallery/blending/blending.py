"""Which lots go into which grade, within moisture and colour, when some lots must be taken whole?"""

from pathlib import Path

import pandas as pd

import ruddock as rk

HERE = Path(__file__).parent


def build(folder: Path = HERE) -> rk.Model:
    """Return the model, with the tables of a folder."""
    lots = pd.read_csv(folder / "lots.csv").set_index("lot")
    grades = pd.read_csv(folder / "grades.csv").set_index("grade")
    lot, grade = rk.Axis("lot", lots.index), rk.Axis("grade", grades.index)
    available = rk.data(lots["available"], lot, unit="kg")
    whole, moisture, colour = (rk.data(lots[name], lot) for name in ("whole", "moisture", "colour"))
    cost, price = rk.data(lots["cost"], lot, unit="£/kg"), rk.data(grades["price"], grade, unit="£/kg")
    most, wettest = rk.data(grades["most"], grade, unit="kg"), rk.data(grades["moisture_limit"], grade)
    palest, darkest = rk.data(grades["colour_low"], grade), rk.data(grades["colour_high"], grade)

    model = rk.Model("Blending")
    mix = model.decide("mix", lot, grade, unit="kg")
    taken = model.decide("taken", lot, kind="binary", only=whole)
    model.maximize("margin", unit="£", sales=(price * mix).sum(), honey=-(cost * mix).sum())
    model.quantity("made", mix.sum(lot), unit="kg")
    model.require("stock", mix.sum(grade) <= available, unit="kg")
    model.require("all_or_nothing", mix.sum(grade).where(whole) == available * taken, unit="kg")
    model.require("orders", mix.sum(lot) <= most, unit="kg")
    # an average limit, multiplied out: the sum of (value - limit) x amount has the right sign
    model.require("moisture", ((moisture - wettest) * mix).sum(lot) <= 0, unit="% x kg")
    model.require("pale", ((colour - palest) * mix).sum(lot) >= 0, unit="mm x kg")
    model.require("dark", ((colour - darkest) * mix).sum(lot) <= 0, unit="mm x kg")
    return model


if __name__ == "__main__":
    plan = build().solve()
    print(plan)
    lots, grades = pd.read_csv(HERE / "lots.csv").set_index("lot"), pd.read_csv(HERE / "grades.csv").set_index("grade")
    mix = plan.table("mix")
    average = mix.mul(lots["moisture"], axis=0).sum() / mix.sum()
    print("\nMoisture of each grade, and its limit:")
    print(average.to_frame("moisture").join(grades["moisture_limit"]).round(2))
