"""How many jars, bottles of mead and hampers make the most of one week's hours, wax and shelf?"""

import ruddock as rk


def build() -> rk.Model:
    """Return the model."""
    model = rk.Model("Packing week")
    jars = model.decide("jars", unit="item")
    mead = model.decide("mead", unit="item")
    hampers = model.decide("hampers", upper=40, kind="integer", unit="hamper")
    model.maximize("margin", unit="£", jars=4.2 * jars, mead=9.5 * mead, hampers=31 * hampers)
    model.require("extraction", 0.5 * jars + 1.2 * mead <= 640, unit="hour")
    model.require("wax", 0.1 * jars + 2 * hampers <= 150, unit="kg")
    model.require("shelf", (jars - mead).between(10, 200), unit="item")
    return model


if __name__ == "__main__":
    model = build()
    print(model.describe())
    plan = model.solve()
    print(plan)
    print("\nWhere the wax goes:")
    print(plan.explain("wax"))
    # Prices exist where decisions may be fractions: what would one more hour be worth?
    relaxed = model.without_integers().solve()
    hour = relaxed.constraints()["shadow_price"]["extraction"]
    print(f"\nOne more hour of extraction earns £{hour:.2f}.")
