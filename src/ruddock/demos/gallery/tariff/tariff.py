"""When should each machine run, so that the electricity of the day costs least?"""

from pathlib import Path

import matplotlib.pyplot as plt
import pandas as pd

import ruddock as rk

HERE = Path(__file__).parent


def build(folder: Path = HERE) -> rk.Model:
    """Return the model, with the tables of a folder."""
    tariff = pd.read_csv(folder / "tariff.csv", dtype={"hour": str}).set_index("hour")
    machines = pd.read_csv(folder / "machines.csv").set_index("machine")
    machine, hour = rk.Axis("machine", machines.index), rk.Axis("hour", tariff.index)
    price, lights = rk.data(tariff["price"], hour, unit="£/kWh"), rk.data(tariff["lights"], hour, unit="kW")
    power, hours = rk.data(machines["power"], machine, unit="kW"), rk.data(machines["hours"], machine)

    model = rk.Model("Machine hours")
    work = model.decide("work", machine, hour, kind="binary")
    model.minimize("cost", (price * power * work).sum(), unit="£")
    model.quantity("load", (power * work).sum(machine) + lights, unit="kW")
    model.require("enough", work.sum(hour) == hours)
    model.require("together", rk.run(work, hour, 2))  # once on, on for two hours at least
    model.require("fuse", (power * work).sum(machine) <= 30 - lights, unit="kW")
    first, last = hour.labels[-2], hour.labels[-1]
    model.require("evening", work.at(hour=last) <= work.at(hour=first))  # no run begins in the last hour
    return model


if __name__ == "__main__":
    model = build()
    plan = model.solve()
    print(plan)
    plan.draw_schedule("work", "hour")
    plt.savefig("schedule.png")
