"""A model for windows: finds objects with it; trees, network, the law from scores to probability, the lean; as plain arrays."""

from __future__ import annotations

import io
import json
from collections.abc import Mapping
from dataclasses import dataclass
from typing import Any

import numpy as np
from numpy.typing import NDArray

from lucid_finch.core.errors import ParameterError
from lucid_finch.core.numerics.windows import detecting, network
from lucid_finch.core.numerics.windows.channels import CELL, COUNT, mirrored
from lucid_finch.core.numerics.windows.pyramid import Octaves
from lucid_finch.core.numerics.windows.trees import LEAVES, NODES, Trees, score_windows

Floats = NDArray[np.float64]
VERSION = 2
_LEAN = 60.0
"""Degrees: more is not told."""
_NONE = -20.0
"""Output of the network where it has not looked: none."""
_CHANCE = 0.005
"""Probability from which on the network looks again."""


@dataclass(frozen=True)
class Looked:
    """What a model says of windows around objects that may be."""

    total: Floats
    """Sum of all trees."""
    again: Floats
    """Output of the network."""
    lean: Floats
    """Degrees, from up towards +x."""


@dataclass(frozen=True)
class Model:
    """What was learnt."""

    trees: Trees
    inside: float
    """px of the object in a window."""
    network: Mapping[str, NDArray[np.float32]]
    """The arrays of `network`: looks again at what the trees found."""
    law: Floats
    """(5,): the logit of the probability is the sum of it times 1, score, log(hits), total, and output of the network."""
    lean: NDArray[np.float32]
    """(values + 1,): degrees by which the object leans, linear in the values of its window; the last is the constant."""
    card: Mapping[str, Any]
    """Seed, date, material and figures."""
    scanned: int
    """With so many trees all windows are searched; with all of them what was found is looked at again."""

    @property
    def scan(self) -> Trees:
        return self.trees.first(self.scanned)

    def scales(self, size: tuple[int, int], sizes: tuple[float, float]) -> list[float]:
        """At which an image of `size` (width, height) is searched for objects of sides sizes[0] .. sizes[1], px."""
        return detecting.scales(size, self.trees.side * CELL, self.inside, sizes)

    def found(self, octaves: Octaves, at: list[float]) -> detecting.Groups:
        """The candidates of an image."""
        scan = self.scan
        return detecting.joined(detecting.find(octaves, scan, self.inside, at, float(scan.reject[-1])))

    def looked_at(self, octaves: Octaves, groups: detecting.Groups) -> Looked:
        """What is seen at candidates. The network looks only where all trees leave a chance, and at the mirrored window where it
        finds one itself: the mean of both errs less."""
        side = self.trees.side
        windows = detecting.windows_of(octaves, groups.x, groups.y, groups.side, side, self.inside)
        lean = np.asarray(windows.astype(np.float32) @ self.lean[:-1] + self.lean[-1], float)
        total = score_windows(windows, self.trees).astype(float)
        again = np.full(len(total), _NONE)
        chosen = np.flatnonzero(total >= self.trees.reject[-1])
        again[chosen] = network.outputs(windows[chosen], side, self.network)
        looked = Looked(total, again, np.clip(lean, -_LEAN, _LEAN))
        chosen = np.flatnonzero(self.probability(groups.score, groups.count, looked) > _CHANCE)
        again[chosen] = 0.5 * (again[chosen] + network.outputs(mirrored(windows[chosen], side), side, self.network))
        return looked

    def probability(self, score: Floats, hits: NDArray[np.int64], looked: Looked) -> Floats:
        """By the best sum of the scan, how many windows agree, and what was seen then."""
        logit = evidence(score, hits, looked) @ self.law
        return np.asarray(1.0 / (1.0 + np.exp(-np.clip(logit, -60, 60))))

    def written(self) -> bytes:
        """As the bytes of a file of arrays."""
        stream, trees = io.BytesIO(), self.trees
        arrays: dict[str, Any] = {
            "version": np.array(VERSION), "side": np.array(trees.side), "feature": trees.feature, "threshold": trees.threshold,
            "leaf": trees.leaf.astype(np.float16), "reject": trees.reject.astype(np.float32), "inside": np.array(self.inside),
            "law": self.law, "scanned": np.array(self.scanned), "lean": self.lean.astype(np.float16),
            "card": np.frombuffer(json.dumps(dict(self.card)).encode(), np.uint8),
            **{f"net_{name}": values.astype(np.float16) for name, values in self.network.items()},
        }  # fmt: skip
        np.savez_compressed(stream, **arrays)
        return stream.getvalue()

    @staticmethod
    def read(data: bytes, what: str) -> Model:
        """From such bytes. Raises `ParameterError` where they are damaged."""
        try:
            with np.load(io.BytesIO(data), allow_pickle=False) as z:
                if int(z["version"]) != VERSION:
                    raise ValueError(f"version {int(z['version'])}, not {VERSION}")
                side = int(z["side"])
                trees = Trees(
                    side, z["feature"].astype(np.uint16), z["threshold"].astype(np.uint8), z["leaf"].astype(np.float32),
                    np.broadcast_to(z["reject"].astype(np.float32), (len(z["leaf"]),)),
                )  # fmt: skip
                law, lean = z["law"].astype(float), z["lean"].astype(np.float32)
                arrays = {name: z[f"net_{name}"].astype(np.float32) for name in network.NAMES}
                network.check(arrays, side, COUNT)
                model = Model(trees, float(z["inside"]), arrays, law, lean, json.loads(bytes(z["card"])), int(z["scanned"]))
        except Exception as error:
            raise ParameterError(f"{what}: is damaged ({type(error).__name__}: {error}); install Lucid Finch again") from None
        values, count = side * side * COUNT, len(trees)
        sound = (
            trees.feature.shape == trees.threshold.shape == (count, NODES) and trees.leaf.shape == (count, LEAVES)
            and int(trees.feature.max(initial=0)) < values and law.shape == (5,)
            and 0 < model.scanned <= count and lean.shape == (values + 1,)
            and np.isfinite(trees.leaf).all() and np.isfinite(lean).all()
        )  # fmt: skip
        if not sound:
            raise ParameterError(f"{what}: is damaged (its arrays do not fit together); install Lucid Finch again")
        return model


def evidence(score: Floats, hits: NDArray[np.int64], looked: Looked) -> Floats:
    """(n, 5): what the law weighs."""
    return np.stack([np.ones(len(score)), score, np.log(np.maximum(hits, 1)), looked.total, looked.again], axis=1)
