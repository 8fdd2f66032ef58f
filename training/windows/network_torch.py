"""Trains the small network that looks at what the trees found: run by a Python that has PyTorch (Debian: python3-torch).

    python3 training/windows/network_torch.py DATA.npz OUT.npz [EPOCHS]

DATA: `windows` (n, rows x columns x channels, bytes), `truth` (n,), `side`, `channels`. OUT: the arrays of
`lucid_finch.core.numerics.windows.network`. Uses nothing of the package, which that Python need not have.
"""

import sys

import numpy as np
import torch
from torch import nn


class Network(nn.Module):
    def __init__(self, channels: int, side: int) -> None:
        super().__init__()
        self.one = nn.Conv2d(channels, 24, 3, padding=1)
        self.two = nn.Conv2d(24, 32, 3, padding=1)
        self.three = nn.Conv2d(32, 48, 3, padding=1)
        self.four = nn.Linear(48 * (side // 4) ** 2, 24)
        self.five = nn.Linear(24, 1)
        self.drop = nn.Dropout(0.3)

    def forward(self, x: torch.Tensor) -> torch.Tensor:
        x = nn.functional.max_pool2d(torch.relu(self.one(x)), 2)
        x = nn.functional.max_pool2d(torch.relu(self.two(x)), 2)
        x = torch.relu(self.three(x)).flatten(1)
        return self.five(self.drop(torch.relu(self.four(self.drop(x))))).squeeze(1)


def main() -> None:
    torch.manual_seed(1)
    torch.set_num_threads(2)
    z = np.load(sys.argv[1])
    side, channels = int(z["side"]), int(z["channels"])
    windows = torch.from_numpy(z["windows"].reshape(-1, side, side, channels))
    truth = torch.from_numpy(z["truth"].astype(np.float32))
    held = torch.arange(len(truth)) % 11 == 0
    network = Network(channels, side)
    epochs = int(sys.argv[3]) if len(sys.argv) > 3 else 14
    optimiser = torch.optim.AdamW(network.parameters(), lr=2e-3, weight_decay=2e-3)
    learn = torch.nonzero(~held).squeeze(1)
    steps = epochs * (len(learn) // 128)
    schedule = torch.optim.lr_scheduler.OneCycleLR(optimiser, 3e-3, total_steps=steps)
    weight = (truth < 0.5).float().sum() / truth.sum()

    def values(rows: torch.Tensor) -> torch.Tensor:
        return windows[rows].permute(0, 3, 1, 2).float() / 128.0 - 1.0

    done = 0
    for epoch in range(epochs):
        order = learn[torch.randperm(len(learn))]
        total = 0.0
        network.train()
        for first in range(0, len(order) - 127, 128):
            rows = order[first : first + 128]
            x = values(rows)
            # Colour may be missing.
            grey = torch.rand(len(x)) < 0.2
            x[grey, 8:] = 0.0
            loss = nn.functional.binary_cross_entropy_with_logits(network(x), truth[rows], pos_weight=weight.clamp(max=3.0))
            optimiser.zero_grad()
            loss.backward()
            optimiser.step()
            if done < steps - 1:
                schedule.step()
            done += 1
            total += float(loss)
        network.eval()
        with torch.no_grad():
            rows = torch.nonzero(held).squeeze(1)
            out = torch.cat([network(values(part)) for part in rows.split(512)])
        wrong = ((out > 0) != (truth[rows] > 0.5)).float().mean()
        print(
            f"epoch {epoch + 1}: loss {total / max(len(order) // 128, 1):.4f}, wrong on those kept aside {float(wrong):.4f}",
            flush=True,
        )
    arrays = {name.replace(".", "_"): value.detach().numpy() for name, value in network.state_dict().items()}
    np.savez(sys.argv[2], **arrays)


if __name__ == "__main__":
    main()
