"""A model for windows: trees, the law from scores to probability, the lean of what is in the window; as plain arrays."""

from __future__ import annotations

import io
import json
from collections.abc import Mapping
from dataclasses import dataclass
from typing import Any

import numpy as np
from numpy.typing import NDArray

from lucid_finch.core.errors import ParameterError
from lucid_finch.core.numerics.windows import network
from lucid_finch.core.numerics.windows.channels import COUNT
from lucid_finch.core.numerics.windows.trees import LEAVES, NODES, Trees

Floats = NDArray[np.float64]
VERSION = 1


@dataclass(frozen=True)
class Model:
    """What was learnt."""

    trees: Trees
    inside: float
    """px of the object in a window."""
    network: Mapping[str, NDArray[np.float32]]
    """The arrays of `network`: looks again at what the trees found."""
    law: Floats
    """(4,): the logit of the probability is law[0] + law[1] score + law[2] log(hits) + law[3] output of the network."""
    lean: NDArray[np.float32]
    """(values + 1,): degrees by which the object leans, linear in the values of its window; the last is the constant."""
    card: Mapping[str, Any]
    """Seed, date, material and figures."""

    def looked_again(self, windows: NDArray[np.uint8]) -> Floats:
        """The network's output for windows (n, values)."""
        return network.outputs(windows, self.trees.side, self.network)

    def probability(self, score: Floats, hits: NDArray[np.int64], again: Floats) -> Floats:
        """By the sum of the trees, how many windows agree, and the network's output."""
        logit = self.law[0] + self.law[1] * score + self.law[2] * np.log(np.maximum(hits, 1)) + self.law[3] * again
        return np.asarray(1.0 / (1.0 + np.exp(-np.clip(logit, -60, 60))))

    def leaning(self, windows: NDArray[np.uint8]) -> Floats:
        """Degrees, from up towards +x, of objects in windows (n, values)."""
        return np.asarray(windows.astype(np.float32) @ self.lean[:-1] + self.lean[-1], float)

    def written(self) -> bytes:
        """As the bytes of a file of arrays."""
        stream, trees = io.BytesIO(), self.trees
        arrays: dict[str, Any] = {
            "version": np.array(VERSION), "side": np.array(trees.side), "feature": trees.feature, "threshold": trees.threshold,
            "leaf": trees.leaf.astype(np.float16), "reject": np.array(trees.reject), "inside": np.array(self.inside),
            "law": self.law, "lean": self.lean.astype(np.float16),
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
                    float(z["reject"]),
                )  # fmt: skip
                law, lean = z["law"].astype(float), z["lean"].astype(np.float32)
                arrays = {name: z[f"net_{name}"].astype(np.float32) for name in network.NAMES}
                network.check(arrays, side, COUNT)
                model = Model(trees, float(z["inside"]), arrays, law, lean, json.loads(bytes(z["card"])))
        except Exception as error:
            raise ParameterError(f"{what}: is damaged ({type(error).__name__}: {error}); install Lucid Finch again") from None
        values, count = side * side * COUNT, len(trees)
        sound = (
            trees.feature.shape == trees.threshold.shape == (count, NODES) and trees.leaf.shape == (count, LEAVES)
            and int(trees.feature.max(initial=0)) < values and law.shape == (4,) and lean.shape == (values + 1,)
            and np.isfinite(trees.leaf).all() and np.isfinite(lean).all()
        )  # fmt: skip
        if not sound:
            raise ParameterError(f"{what}: is damaged (its arrays do not fit together); install Lucid Finch again")
        return model
