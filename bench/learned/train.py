"""Trains what ersatz/core/survey/learned.py runs; needs PyTorch: `python -m bench.learned.train PIECES --out FILE.npz`.

What is told of a piece is worth as much as there is to hear of it: a ducked bass that the rest covers counts little. Turned round
the bar, beside the grid, with regions of the spectrum left out and without a side, every piece is another one each time.
"""

from __future__ import annotations

import argparse
from pathlib import Path

import numpy as np
import torch
from torch import nn
from torch.nn import functional

from ersatz.core.survey.envelopes import PER_BEAT
from ersatz.core.survey.folded import FEATURES, QUICK_HZ, REGIONS, SIDE_HZ
from ersatz.core.survey.learned import DEPTH_DB, DILATIONS, POOL, RATES, SPREAD

CHANNELS, HIDDEN = 48, 64
SEEDS = (1, 2, 3)
EPOCHS, PER_BATCH, RATE, DECAY = 18, 64, 4e-3, 3e-2
STEP = PER_BEAT // 4
#: Share of pieces on a grid beside the beat, and how far at most, points.
BESIDE, BESIDE_POINTS = 0.3, 6
FIRST_OF_SIDE = REGIONS - len(SIDE_HZ) - len(QUICK_HZ) - 2
Batch = dict[str, torch.Tensor]


class Net(nn.Module):
    """The layers of ersatz.core.survey.learned, with batch normalisation and dropout for training."""

    def __init__(self) -> None:
        super().__init__()
        self.a = _Around(REGIONS * FEATURES, 7, 1)
        self.b = _Around(CHANNELS, 5, 2)
        self.c = nn.ModuleList([_Around(CHANNELS, 5, d) for d in DILATIONS])
        # The first is where the curve begins, the second where the kick is struck: what is learned of that helps the first.
        self.steps = nn.Conv1d(CHANNELS, 2, STEP // POOL, stride=STEP // POOL)
        self.hidden = nn.Linear(3 * CHANNELS, HIDDEN)
        self.dropped = nn.Dropout(0.2)
        self.out = nn.Linear(HIDDEN, 3 + len(RATES))
        self.curve = nn.Linear(HIDDEN, PER_BEAT)

    def forward(self, x: torch.Tensor) -> Batch:
        x = self.a(functional.dropout1d(x, 0.05, self.training))
        x = functional.avg_pool1d(x + self.b(x), POOL)
        for layer in self.c:
            x = x + layer(x)
        steps = self.steps(x)
        weight = torch.softmax(steps[:, :1].repeat_interleave(STEP // POOL, dim=2), -1)
        pooled = torch.cat([x.mean(-1), x.amax(-1), (x * weight).sum(-1)], 1)
        hidden = self.dropped(functional.silu(self.hidden(pooled)))
        out = self.out(hidden)
        return {
            "certain": out[:, 0], "depth": DEPTH_DB * functional.softplus(out[:, 1]), "spread": out[:, 2].clamp(*SPREAD),
            "rates": out[:, 3:], "shape": torch.sigmoid(self.curve(hidden)), "triggers": steps[:, 0], "hits": steps[:, 1],
        }  # fmt: skip


class _Around(nn.Module):
    def __init__(self, channels: int, taps: int, dilation: int) -> None:
        super().__init__()
        pad = taps // 2 * dilation
        self.conv = nn.Conv1d(channels, CHANNELS, taps, padding=pad, dilation=dilation, padding_mode="circular")
        self.norm = nn.BatchNorm1d(CHANNELS)

    def forward(self, x: torch.Tensor) -> torch.Tensor:
        return functional.silu(self.norm(self.conv(x)))

    def merged(self) -> tuple[torch.Tensor, torch.Tensor]:
        """Weights and biases with the normalisation in them."""
        scale = self.norm.weight / torch.sqrt(self.norm.running_var + self.norm.eps)
        return self.conv.weight * scale[:, None, None], (self.conv.bias - self.norm.running_mean) * scale + self.norm.bias


def loss(out: Batch, true: Batch) -> torch.Tensor:
    ducks = (true["depth_db"] > 0).float()
    worth = torch.where(ducks > 0, (2 * true["share"]).clamp(0.2, 1), 1.0)
    said = worth * ducks
    entropy = functional.binary_cross_entropy_with_logits
    off = (out["depth"] - true["depth_db"]).abs() / out["spread"].exp() + out["spread"]
    left = -true["curve_db"] / true["depth_db"].clamp(min=1)[:, None]
    triggers = entropy(out["triggers"], true["triggers"], reduction="none").mean(1)
    return torch.stack([
        (worth * entropy(out["certain"], ducks, reduction="none")).mean(),
        0.3 * (said * off).mean(),
        2.0 * (said * (out["shape"] - left).abs().mean(1)).mean(),
        1.5 * (worth * (0.1 + 0.9 * ducks) * triggers).mean(),
        0.5 * entropy(out["hits"], true["hits"]),
        0.3 * (said * functional.cross_entropy(out["rates"], true["rate"], reduction="none")).mean(),
    ]).sum()  # fmt: skip


def varied(batch: Batch) -> Batch:
    """Each piece begun at another 16th, some on a grid beside the beat, some regions silent, some without a side."""
    x = batch["folded"].float()
    count, _, points = x.shape
    steps = torch.randint(0, points // STEP, (count,))
    beside = torch.where(torch.rand(count) < BESIDE, torch.randint(-BESIDE_POINTS, BESIDE_POINTS + 1, (count,)), 0)
    x = _turned(x, STEP * steps + beside).view(count, REGIONS, FEATURES, points)
    x[torch.rand(count) < 0.12, FIRST_OF_SIDE:] = 0
    x[torch.rand(count, REGIONS) < 0.12] = 0
    x = x + 0.03 * torch.randn_like(x) * (x[:, :, -1:].mean(-1, keepdim=True) > 0)
    turned = {name: _turned(batch[name][:, None], steps)[:, 0] for name in ("triggers", "hits")}
    return {**batch, **turned, "folded": x.view(count, REGIONS * FEATURES, points)}


def _turned(x: torch.Tensor, by: torch.Tensor) -> torch.Tensor:
    """Each row of (n, channels, points) rolled by its own number of points."""
    points = x.shape[-1]
    source = (torch.arange(points)[None] - by[:, None]) % points
    return torch.gather(x, 2, source[:, None].expand(-1, x.shape[1], -1))


def train(pieces: Batch, seed: int) -> Net:
    torch.manual_seed(seed)
    count = len(pieces["rate"])
    net = Net()
    optimiser = torch.optim.AdamW(net.parameters(), RATE, weight_decay=DECAY)
    schedule = torch.optim.lr_scheduler.OneCycleLR(optimiser, RATE, total_steps=EPOCHS * (count // PER_BATCH) + 1)
    for epoch in range(EPOCHS):
        total = 0.0
        for chosen in torch.randperm(count)[: count // PER_BATCH * PER_BATCH].view(-1, PER_BATCH):
            batch = varied({name: values[chosen] for name, values in pieces.items()})
            step = loss(net(batch["folded"]), batch)
            optimiser.zero_grad()
            step.backward()
            nn.utils.clip_grad_norm_(net.parameters(), 1.0)
            optimiser.step()
            schedule.step()
            total += float(step.detach())
        print(f"seed {seed}, epoch {epoch + 1} of {EPOCHS}: loss {total / (count // PER_BATCH):.3f}", flush=True)
    return net.eval()


def merged(net: Net) -> dict[str, np.ndarray]:
    """The weights as ersatz.core.survey.learned names them."""
    layers = {"a": net.a, "b": net.b, **{f"c{k}": layer for k, layer in enumerate(net.c)}}
    out = {}
    for name, layer in layers.items():
        out[name], out[f"{name}_bias"] = layer.merged()
    for name in ("steps", "hidden", "out", "curve"):
        plain = getattr(net, name)
        out[name], out[f"{name}_bias"] = plain.weight, plain.bias
    return {name: value.detach().numpy() for name, value in out.items()}


def main() -> None:
    parser = argparse.ArgumentParser(prog="python -m bench.learned.train")
    parser.add_argument("pieces", type=Path)
    parser.add_argument("--out", type=Path, required=True)
    arguments = parser.parse_args()
    files = [np.load(path) for path in sorted(arguments.pieces.glob("*.npz"))]
    pieces = {name: torch.from_numpy(np.concatenate([f[name] for f in files])) for name in files[0].files}
    pieces = {name: values.float() if values.dtype == torch.float64 else values for name, values in pieces.items()}
    nets = [merged(train(pieces, seed)) for seed in SEEDS]
    np.savez_compressed(arguments.out, **{name: np.stack([n[name] for n in nets]).astype(np.float16) for name in nets[0]})


if __name__ == "__main__":
    main()
