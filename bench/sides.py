"""Draws docs/pictures/sides.png: who has to allow a crossing at a two-sided and at a one-sided provider.

python bench/sides.py
"""

from pathlib import Path

import matplotlib as mpl

mpl.use("Agg")
import matplotlib.pyplot as plt
from matplotlib.axes import Axes
from matplotlib.patches import FancyArrowPatch, FancyBboxPatch

FILE = Path(__file__).parent.parent / "docs" / "pictures" / "sides.png"
INK, QUIET, OURS, THEIRS = "#1c2733", "#6b7a89", "#e8f0f7", "#f6efe2"


def _box(axes: Axes, at: tuple[float, float], size: tuple[float, float], text: str, colour: str) -> None:
    axes.add_patch(
        FancyBboxPatch(at, *size, boxstyle="round,pad=0.02,rounding_size=0.12", facecolor=colour, edgecolor=INK, lw=1.2)
    )
    axes.text(at[0] + size[0] / 2, at[1] + size[1] - 0.28, text, ha="center", va="center", fontsize=11, color=INK)


def _crossing(axes: Axes, style: str, *, caller_decides: bool) -> None:
    axes.set_xlim(0, 10)
    axes.set_ylim(0, 4.6)
    axes.axis("off")
    axes.text(0.1, 4.25, f"a {style} provider", fontsize=13, weight="bold", color=INK)
    _box(axes, (0.3, 0.5), (3.6, 3.2), "account orders", OURS)
    _box(axes, (6.1, 0.5), (3.6, 3.2), "account ledger", THEIRS)
    axes.text(2.1, 2.55, "identity/reporter", ha="center", fontsize=10, color=INK, family="monospace")
    axes.text(7.9, 2.55, "bucket/invoices", ha="center", fontsize=10, color=INK, family="monospace")
    axes.add_patch(FancyArrowPatch((3.4, 2.6), (6.5, 2.6), arrowstyle="-|>", mutation_scale=18, color=INK, lw=1.6))
    axes.text(5.0, 2.8, "read", ha="center", fontsize=10, color=INK)
    out = "grant held by orders:\nlets it out" if caller_decides else "no grant needed"
    axes.text(2.1, 1.3, out, ha="center", va="center", fontsize=10, color=INK if caller_decides else QUIET)
    axes.text(7.9, 1.3, "grant held by ledger:\nlets it in", ha="center", va="center", fontsize=10, color=INK)


def main() -> None:
    """Writes the picture."""
    figure, (left, right) = plt.subplots(1, 2, figsize=(12.8, 3.4), dpi=100)
    _crossing(left, "two-sided", caller_decides=True)
    _crossing(right, "one-sided", caller_decides=False)
    figure.tight_layout()
    figure.savefig(FILE)


if __name__ == "__main__":
    main()
