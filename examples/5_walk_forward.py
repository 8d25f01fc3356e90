"""Walk-forward: does anything beat the baseline, by how much, and is that more than luck."""

import sys
from pathlib import Path

import proteron as pt
from proteron import models

folder = Path(
    sys.argv[1] if len(sys.argv) > 1 else "demo-files"
)  # made by: proteron demo --out demo-files, and 1_intake.py


def main() -> None:
    panel = pt.read_panel(folder / "production.parquet")
    flat = pt.Chain([pt.flatten.Log(), pt.flatten.LinearTrend()])
    report = pt.walk_forward(
        panel,
        {
            "last year": pt.forecaster("seasonal_last_value", period=12),
            "smoothing": pt.forecaster(models.Smoothing()),  # a class of its settings: editors complete and check it
            "theta": pt.forecaster(models.Theta()),
            "ridge": pt.forecaster(models.Ridge(plan=pt.WindowPlan(lags=list(range(1, 13)), horizon=[1])), chain=flat),
        },
        pt.Folds.expanding(count=6, horizon=6),
        metrics=["mase", "rmse", "crps", "coverage_80"],
        baseline="last year",
        workers=2,
    )
    print(report.board)
    by_step = report.losses("mase", by="step")
    for name, losses in zip(by_step.names, by_step.values, strict=True):
        print(f"  {name}: MASE by step", losses.round(2))


if __name__ == "__main__":
    main()
