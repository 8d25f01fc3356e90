"""What the joint detector finds of the faults that are planted in the demo data, against its truth file.

.venv/bin/python scripts/demo_truth.py               # prints the table and draws docs/screenshots/anomalies-truth.png
"""

import json
import tempfile
from collections.abc import Sequence
from dataclasses import dataclass, field
from pathlib import Path

import matplotlib
import numpy as np

import proteron as pt
from port_ellery import write_demo
from port_ellery.files import CALENDAR, EXAMPLE, HOURLY
from proteron.core.anomalies import Mode
from proteron.core.experiment import Experiment
from proteron.core.intake import Edit, edit_panel, read_calendar, read_table

PICTURE = Path(__file__).resolve().parents[1] / "docs" / "screenshots" / "anomalies-truth.png"
MODES = {"looking_back": "looking back", "as_of": "as of every moment, 2 h late"}
INK, PALE, CAUGHT = "#1f2933", "#8a949e", "#2c6e8f"


@dataclass(frozen=True)
class Planted:
    """A fault of the truth file: its districts, and grid positions from, to before."""

    kind: str
    keys: Sequence[str]
    start: int
    stop: int


@dataclass
class Tally:
    """Of planted faults by kind, whether each is found; and how many flags touch none."""

    found: dict[str, list[bool]] = field(default_factory=dict)
    flags: int = 0
    false: int = 0


def demo() -> tuple[pt.Panel, list[Planted]]:
    """The hourly panel with its holidays, and its faults."""
    with tempfile.TemporaryDirectory() as name:
        folder = Path(name)
        write_demo(folder)
        data = Experiment.load(folder / EXAMPLE).data
        panel = read_table(folder / HOURLY, data.roles, data.step, data.zone, data.unit).panel
        panel = edit_panel(panel, Edit(occasions=read_calendar(folder / CALENDAR)), {}).panel
        truth = json.loads((folder / "port-ellery-truth.json").read_text())
    planted = []
    for each in truth["faults"]:
        start, stop = (panel.axis.position(np.datetime64(each[name].rstrip("Z"))) for name in ("start", "stop"))
        keys = [each["district"]] if "district" in each else list(panel.keys)
        planted.append(Planted(each["kind"], keys, int(start), int(stop)))
    return panel, planted


def tally(panel: pt.Panel, planted: Sequence[Planted], mode: Mode, workers: int = 2) -> Tally:
    """A fault is found by a flag that touches it or stands beside it; a flag is false where it touches none."""
    out, used = Tally(), set[int]()
    flags = list(pt.find_anomalies(panel, mode, workers=workers))
    for fault in planted:
        mine = {
            at for at, flag in enumerate(flags) if flag.key in fault.keys
            for first in (int(panel.starts[panel.index(flag.key)]),)
            if first + flag.start <= fault.stop and fault.start <= first + flag.stop
        }  # fmt: skip
        out.found.setdefault(fault.kind, []).append(bool(mine))
        used |= mine
    out.flags, out.false = len(flags), len(flags) - len(used)
    return out


def draw(tallies: dict[str, Tally], path: Path) -> None:
    """One mark per planted fault, filled where it is found."""
    matplotlib.use("Agg")
    from matplotlib import pyplot

    kinds = sorted(next(iter(tallies.values())).found)
    pyplot.rcParams.update({"font.family": "DejaVu Sans", "font.size": 10, "text.color": INK})
    figure, axes = pyplot.subplots(1, len(tallies), figsize=(10.5, 0.34 * len(kinds) + 1.3), sharey=True)
    most = max(len(each) for one in tallies.values() for each in one.found.values())
    for axis, (mode, one) in zip(axes, tallies.items(), strict=True):
        for row, kind in enumerate(kinds):
            for at, found in enumerate(one.found[kind]):
                axis.plot(at, row, "s", color=CAUGHT if found else "none", markeredgecolor=CAUGHT, markersize=9)
            axis.text(most + 0.3, row, f"{sum(one.found[kind])} of {len(one.found[kind])}", va="center", color=PALE)
        caught, planted = sum(map(sum, one.found.values())), sum(map(len, one.found.values()))
        axis.set_title(f"{MODES[mode]}: {caught} of {planted} faults, {one.false} of {one.flags} flags false",
                       fontsize=10, loc="left", color=INK)  # fmt: skip
        axis.set_xlim(-0.7, most + 2)
        axis.set_yticks(range(len(kinds)), kinds)
        axis.set_xticks([])
        axis.tick_params(length=0)
        for side in axis.spines.values():
            side.set_visible(False)
    axes[0].invert_yaxis()
    figure.tight_layout()
    figure.savefig(path, dpi=120)


if __name__ == "__main__":
    panel, planted = demo()
    tallies = {mode: tally(panel, planted, mode) for mode in MODES}  # type: ignore[arg-type]
    for mode, one in tallies.items():
        print(f"{MODES[mode]}: {one.flags} flags, {one.false} of them false")
        for kind, found in sorted(one.found.items()):
            print(f"  {kind:20s} {sum(found)} of {len(found)}")
    draw(tallies, PICTURE)
