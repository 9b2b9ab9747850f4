"""Blending at Larkmoor: lots of honey into grades, within moisture and colour, some lots all or nothing.

Run it with: python examples/blending.py
"""

import ruddock as rk
from ruddock.demos.files import frame

lots, grades = frame("lots.csv").set_index("lot"), frame("grades.csv").set_index("grade")
lot, grade = rk.Axis("lot", lots.index), rk.Axis("grade", grades.index)

model = rk.Model("Blending")
mix = model.decide("mix", lot, grade, unit="kg")
taken = model.decide("taken", lot, kind="binary", only=lots["whole"])

# a Series whose index is named like an axis is used as it is
model.maximize("margin", unit="£", sales=(grades["price"] * mix).sum(), honey=-(lots["cost"] * mix).sum())
model.quantity("made", mix.sum(lot), unit="kg")
model.require("stock", mix.sum(grade) <= lots["available"], unit="kg")
model.require("all_or_nothing", mix.sum(grade).where(lots["whole"]) == lots["available"] * taken, unit="kg")
model.require("orders", mix.sum(lot) <= grades["most"], unit="kg")

# average moisture <= limit, multiplied out: the sum of (moisture - limit) x amount is at most 0
over = rk.data(lots["moisture"], lot) - rk.data(grades["moisture_limit"], grade)
model.require("moisture", (over * mix).sum(lot) <= 0)
model.require("pale", ((rk.data(lots["colour"], lot) - rk.data(grades["colour_low"], grade)) * mix).sum(lot) >= 0)
model.require("dark", ((rk.data(lots["colour"], lot) - rk.data(grades["colour_high"], grade)) * mix).sum(lot) <= 0)

plan = model.solve()
print(plan)

made = plan.value(mix.sum(lot))
moisture = plan.value((lots["moisture"] * mix).sum(lot)) / made
print("\nMoisture of each grade, and its limit:")
print(moisture.to_frame("moisture").join(grades["moisture_limit"]).round(2))
