"""Features as small numbers: what a tree may split between is settled once, from the rows it learns from."""

from collections.abc import Mapping, Sequence
from dataclasses import dataclass
from typing import Any

import numpy as np
from numpy.typing import NDArray

from proteron.core.panel import Floats

MOST_BINS = 255
MISSING = 255  # the bin of a missing value
LOOKED_AT = 200_000  # rows from which edges are learned
Binned = NDArray[np.uint8]


@dataclass(frozen=True)
class Bins:
    """Edges between the bins of every feature, or its categories.

    A value lies in the bin whose number is that of the edges below it; a category in that of its place among
    `edges`, one never seen in the bin of missing ones.
    """

    edges: tuple[Floats, ...]
    categorical: tuple[bool, ...]

    @classmethod
    def learn(cls, features: Floats, categorical: Sequence[bool] = (), most: int = MOST_BINS) -> "Bins":
        """From rows (n_rows, n_features), NaN where missing: as many values in each bin as can be."""
        kinds = tuple(categorical) or (False,) * features.shape[1]
        every = max(1, -(-len(features) // LOOKED_AT))
        edges = []
        for place, is_category in enumerate(kinds):
            values, counts = np.unique(features[::every, place], return_counts=True)
            known = np.isfinite(values)
            values, counts = values[known], counts[known]
            if is_category:
                kept = np.sort(np.argsort(-counts, kind="stable")[:most])
                edges.append(values[kept])
            else:
                edges.append(_edges(values, counts, most))
        return cls(tuple(edges), kinds)

    @property
    def counts(self) -> NDArray[np.int64]:
        """Bins of every feature, that of missing values aside, (n_features,)."""
        pairs = zip(self.edges, self.categorical, strict=True)
        return np.array([len(edges) if category else len(edges) + 1 for edges, category in pairs], dtype=np.int64)

    def apply(self, features: Floats) -> Binned:
        """Bins of rows (n_rows, n_features), feature by feature: (n_features, n_rows)."""
        out = np.empty(features.T.shape, dtype=np.uint8)
        for place, (edges, category) in enumerate(zip(self.edges, self.categorical, strict=True)):
            values = features[:, place]
            found = np.searchsorted(edges, values, side="left")
            missing = np.isnan(values)
            if category:
                missing |= (
                    edges[np.minimum(found, len(edges) - 1)] != values if len(edges) else np.full(len(values), True)
                )
            out[place] = np.where(missing, MISSING, found)
        return out

    def joined(self, other: "Bins") -> "Bins":
        """Those of more features, after these."""
        return Bins(self.edges + other.edges, self.categorical + other.categorical)

    def part(self, first: int, count: int) -> "Bins":
        """Those of some features in a row."""
        return Bins(self.edges[first : first + count], self.categorical[first : first + count])

    def document(self) -> dict[str, Any]:
        return {"edges": [each.tolist() for each in self.edges], "categorical": list(self.categorical)}

    @classmethod
    def from_document(cls, document: Mapping[str, Any]) -> "Bins":
        return cls(tuple(np.array(each, dtype=float) for each in document["edges"]), tuple(document["categorical"]))


def _edges(values: Floats, counts: NDArray[Any], most: int) -> Floats:
    """Middles between neighbouring values; of more values than bins, those that share them out evenly."""
    if len(values) < 2:
        return np.empty(0)
    middles = values[:-1] + (values[1:] - values[:-1]) / 2
    if len(values) <= most:
        return middles
    below = np.cumsum(counts)[:-1]
    wanted = below[-1] * np.arange(1, most) / most
    return middles[np.unique(np.searchsorted(below, wanted).clip(0, len(middles) - 1))]
