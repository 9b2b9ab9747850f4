"""Packing week at Larkmoor: a product mix typed as on paper, solved, and read.

Run it with: python examples/packing_week.py
"""

import ruddock as rk

model = rk.Model("Packing week")
jars = model.decide("jars", unit="item")
mead = model.decide("mead", unit="item")
hampers = model.decide("hampers", upper=40, kind="integer", unit="hamper")

model.maximize("margin", unit="£", jars=4.2 * jars, mead=9.5 * mead, hampers=31 * hampers)
model.require("extraction", 0.5 * jars + 1.2 * mead <= 640, unit="hour")
model.require("wax", 0.1 * jars + 2 * hampers <= 150, unit="kg")
model.require("shelf", (jars - mead).between(10, 200), unit="item")

print(model.describe())
plan = model.solve()
print(plan)

print("\nWhere the wax goes:")
print(plan.explain("wax"))

# Prices exist where decisions may be fractions: what would one more hour be worth?
relaxed = model.without_integers().solve()
hour = relaxed.constraints().loc["extraction", "shadow_price"]
print(f"\nOne more hour of extraction earns £{hour:.2f}.")
