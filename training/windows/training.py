"""Trains trees in rounds: between them, what they wrongly take for the object is added to what they learn from."""

from __future__ import annotations

import time
from collections.abc import Callable, Iterable, Sequence
from concurrent.futures import ThreadPoolExecutor
from dataclasses import dataclass

import numpy as np
from numpy.typing import NDArray

from lucid_finch.core.numerics.windows.trees import Trees, score_windows
from training.windows.boosting import Booster
from training.windows.searching import Picture, hardest, random_windows

Bytes = NDArray[np.uint8]


@dataclass(frozen=True)
class Plan:
    """How much is learnt."""

    rounds: tuple[int, ...] = (64, 180, 350, 600, 900)
    """Trees after each round."""
    begin_with: int = 40
    """Random windows of each picture."""
    per_picture: int = 60
    """Hard ones of each picture and round, at most."""
    most: int = 24_000
    """Windows without the object, at most."""
    reject: float = -1.0
    """Sums below it are given up."""
    smallest: float = 24.0
    """px of the smallest object that is searched for."""


def train(
    objects: Bytes, pictures: Sequence[Picture], side: int, inside: float, plan: Plan, seed: int,
    say: Callable[[str], None] = print,
) -> Trees:  # fmt: skip
    """Trees that tell windows with the object (n, values) from all others in the pictures."""
    random = np.random.default_rng(seed)
    booster = Booster(side, seed)
    begun = time.perf_counter()
    others = np.concatenate(
        [random_windows(picture, side, inside, plan.smallest, plan.begin_with, random) for picture in pictures]
    )  # fmt: skip
    trees: Trees | None = None
    for until in plan.rounds:
        if trees is not None:
            found, total, looked = _hard(pictures, trees, inside, plan, random)
            say(f"{len(trees)} trees take {total} of {looked} windows for the object ({total / looked:.2e})")
            kept = others[np.argsort(-score_windows(others, trees))[: max(0, plan.most - len(found))]]
            others = np.concatenate([kept, found])
        values = np.ascontiguousarray(np.concatenate([objects, others]).T)
        truth = np.arange(values.shape[1]) < len(objects)
        scores = score_windows(values.T, trees).astype(float) if trees is not None else np.zeros(len(truth))
        booster.grow(values, truth, scores, until)
        trees = booster.trees(plan.reject)
        say(
            f"{until} trees on {len(objects)} objects, {len(others)} others: {np.mean(scores[truth] > 0):.4f} of the objects, "
            f"{np.mean(scores[~truth] > 0):.4f} of the others above 0; {time.perf_counter() - begun:.0f} s"
        )
    assert trees is not None
    return trees


def _hard(
    pictures: Iterable[Picture], trees: Trees, inside: float, plan: Plan, random: np.random.Generator
) -> tuple[Bytes, int, int]:
    seeds = [(picture, int(random.integers(2**31))) for picture in pictures]

    def one(given: tuple[Picture, int]) -> tuple[Bytes, int, int]:
        return hardest(given[0], trees, inside, plan.smallest, plan.per_picture, 0.0, np.random.default_rng(given[1]))

    with ThreadPoolExecutor(2) as pool:
        found = list(pool.map(one, seeds))
    return np.concatenate([f[0] for f in found]), sum(f[1] for f in found), sum(f[2] for f in found)
