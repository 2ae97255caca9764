"""A view in one line, as a notebook would read it."""

import os

import pandas

gates = pandas.read_csv(os.environ["DRIP_URL"] + "/api/v1/views/gate.csv")
assert list(gates.columns) == ["gate", "hall", "capacity_per_minute"]
assert len(gates) == 20
assert gates.set_index("gate").loc["G02", "capacity_per_minute"] == 42
assert gates.groupby("hall")["capacity_per_minute"].sum()["North"] > 0
print("done")
