"""Speed of lines and circles against plain compositions, on 1920 x 1080, one thread: ratios of one run."""

from __future__ import annotations

from functools import partial
from typing import Any

import numpy as np
from numpy.typing import NDArray

from benchmarks.timing import fastest
from lucid_finch.core.detector import Context
from lucid_finch.core.detectors.lines import voting_points
from lucid_finch.core.detectors.shared.edge_features import oriented_points
from lucid_finch.core.execution import engine
from lucid_finch.core.image import Image
from lucid_finch.core.judging import Exclusions, Limit, judge
from lucid_finch.core.numerics.edges.gradients import gaussian_kernel, smoothed
from lucid_finch.core.numerics.hough.circle_votes import centre_votes
from lucid_finch.core.numerics.hough.line_votes import LineSpace, VotingPoints, line_votes
from lucid_finch.core.numerics.runtime import threads

WIDTH, HEIGHT = 1920, 1080


def picture(seed: int = 0) -> NDArray[np.uint8]:
    """Sixty discs, forty bars, noise."""
    random = np.random.default_rng(seed)
    y, x = np.mgrid[:HEIGHT, :WIDTH].astype(np.float32)
    plane = np.full(x.shape, 110.0, np.float32)
    for _ in range(60):
        cx, cy, radius = random.uniform(40, WIDTH - 40), random.uniform(40, HEIGHT - 40), random.uniform(22, 58)
        plane[np.hypot(x - cx, y - cy) < radius] += random.choice([-1, 1]) * random.uniform(8, 50)
    for _ in range(40):
        cx, cy, turn = random.uniform(0, WIDTH), random.uniform(0, HEIGHT), random.uniform(0, np.pi)
        u, v = (x - cx) * np.cos(turn) + (y - cy) * np.sin(turn), (y - cy) * np.cos(turn) - (x - cx) * np.sin(turn)
        plane[(np.abs(u) < random.uniform(60, 200)) & (np.abs(v) < 3)] += random.uniform(10, 50)
    plane = smoothed(plane, gaussian_kernel(0.9)) + random.normal(0, 3, plane.shape)
    return np.clip(np.round(plane), 0, 255).astype(np.uint8)


def composed_line_votes(v: VotingPoints, space: LineSpace) -> NDArray[np.float64]:
    """Every angle at once, a histogram of offsets for each, of the points whose angle_error holds it."""
    low, high = space.angle_error(v)
    votes = np.empty((space.angles, space.offsets))
    for k, turn in enumerate(space.turns):
        inside = np.zeros(len(v), bool)
        for shift in (-space.angles, 0, space.angles):
            inside |= (low <= k + shift) & (k + shift <= high)
        rho = (v.x[inside] * np.cos(turn) + v.y[inside] * np.sin(turn)) / space.step + space.middle + 0.5
        votes[k] = np.bincount(rho.astype(np.int64), v.weight[inside], space.offsets)
    return votes


def composed_centre_votes(x: Any, y: Any, nx: Any, ny: Any, radius: tuple[int, int]) -> NDArray[np.float64]:
    """A histogram of centres for every radius and both sides of each edge, summed."""
    votes = np.zeros(WIDTH * HEIGHT)
    for r in range(radius[0], radius[1] + 1):
        for side in (-r, r):
            column, row = np.floor(x + side * nx + 0.5).astype(np.int64), np.floor(y + side * ny + 0.5).astype(np.int64)
            inside = (column >= 0) & (row >= 0) & (column < WIDTH) & (row < HEIGHT)
            votes += np.bincount(row[inside] * WIDTH + column[inside], minlength=WIDTH * HEIGHT)
    return votes.reshape(HEIGHT, WIDTH)


def main() -> None:
    threads.set_thread_count(1)
    image = Image.from_array(picture())
    oriented = oriented_points(image, None, 1.2, Context())
    points = oriented.points
    voting, _ = voting_points(oriented, image)
    space = LineSpace(180, 1.0, 0.5 * float(np.hypot(WIDTH, HEIGHT)) + 1)
    took = fastest(
        {"ours": lambda: line_votes(voting, space), "theirs": lambda: composed_line_votes(voting, space)}, 4
    )  # fmt: skip
    same = np.abs(line_votes(voting, space) - composed_line_votes(voting, space)).sum() / voting.weight.sum()
    print(
        f"line votes of {len(voting)} points: {took['theirs'] / took['ours']:.1f} times (asked 4), {1000 * took['ours']:.1f} ms"
    )
    print(f"  {100 * same:.2f} % of the votes fall to a neighbouring cell")
    given = points.x, points.y, oriented.nx, oriented.ny
    took = fastest(
        {
            "ours": lambda: centre_votes(*given, (WIDTH, HEIGHT), (20.0, 60.0)),
            "theirs": lambda: composed_centre_votes(*given, (20, 60)),
        },
        3,
    )
    ratio = took["theirs"] / took["ours"]
    print(f"circle votes, radius 20 to 60, {len(points)} points: {ratio:.1f} times (asked 12), {1000 * took['ours']:.1f} ms")
    given_to: dict[str, tuple[str, dict[str, Any]]] = {
        "edges": ("edges", {}), "lines": ("lines", {}), "circles": ("circles", {}),
        "circles, radius 20 to 60": ("circles", {"radius": (20.0, 60.0)}),
    }  # fmt: skip
    took = fastest({name: partial(engine.detect, kind, image, options) for name, (kind, options) in given_to.items()})
    for name, (kind, options) in list(given_to.items())[1:]:
        count = len(engine.detect(kind, image, options).task.candidates)
        share = took[name] / (2 * took["edges"] + 20e-6 * count)
        print(f"{name}: {1000 * took[name]:.0f} ms, {count} candidates; {share:.2f} of twice the edges and 20 us each")
    random = np.random.default_rng(1)
    columns = {name: random.random(10_000) for name in "abcdef"}
    limits = [Limit(name, name, "at least", 0.1) for name in columns]
    pairs = random.integers(0, 10_000, (30_000, 2))
    exclusions = Exclusions("overlap", pairs[pairs[:, 0] != pairs[:, 1]], np.ones(int((pairs[:, 0] != pairs[:, 1]).sum())), 0.5)
    took = fastest({"judge": lambda: judge(columns, limits, columns["a"], exclusions)})
    print(f"judging 10,000 candidates by six limits with 30,000 pairs: {1000 * took['judge']:.2f} ms (asked 5)")


if __name__ == "__main__":
    main()
