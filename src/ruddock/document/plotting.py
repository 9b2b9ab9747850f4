"""What all figures share: axes, colours that differ in grey print, labels that keep apart, files."""

from __future__ import annotations

from collections.abc import Callable, Sequence
from functools import partial, wraps
from io import StringIO
from pathlib import Path
from typing import TYPE_CHECKING, Any, ParamSpec

from ruddock.characters import visible
from ruddock.errors import FormatError

if TYPE_CHECKING:
    from matplotlib.axes import Axes

Arguments = ParamSpec("Arguments")
BEST, BOUND = "#1b4f72", "#b9770e"  # apart in grey print as well
GREYS = ["#12324a", "#c98b2b", "#5d8aa8", "#e8d6a8", "#7b3f2c", "#9fb8a3", "#4b4b4b", "#d9d9d9"]
HATCHES = ["", "//", "..", "xx", "\\\\", "++", "oo", "--"]
PATCH = {"facecolor": "white", "edgecolor": "none", "alpha": 0.8, "pad": 1.5}  # behind words over lines
SIZE = (8.0, 5.0)  # inches
LETTER = 0.085  # inches that a letter of a tick label takes, at most
MOST_TICKS = 60
WORDS: Any = {"text.parse_math": False, "text.usetex": False}
FIGURES = (".png", ".svg", ".pdf")


def new_axes() -> Axes:
    """Return axes that a notebook or a window shows."""
    import matplotlib.pyplot as plt

    return plt.subplots(figsize=SIZE, layout="constrained")[1]


def paper(height: float = SIZE[1]) -> Axes:
    """Return axes to be written to a file, which nothing shows."""
    from matplotlib.figure import Figure

    return Figure(figsize=(SIZE[0], height), layout="constrained").subplots()


def plain_words(draw: Callable[Arguments, Axes]) -> Callable[Arguments, Axes]:
    """Return a way to draw in which names stay words: no formulas between ``$``, and nothing that acts."""

    @wraps(draw)
    def drawn(*args: Arguments.args, **kwargs: Arguments.kwargs) -> Axes:
        import matplotlib as mpl
        from matplotlib.text import Text
        from matplotlib.ticker import FuncFormatter

        with mpl.rc_context(WORDS):
            ax = draw(*args, **kwargs)
            for text in ax.get_figure().findobj(Text):  # type: ignore[union-attr]
                assert isinstance(text, Text)
                text.set_text(visible(text.get_text()))
                text.set_parse_math(False)
            for axis in (ax.xaxis, ax.yaxis):
                own = axis.get_major_formatter()
                if isinstance(own, FuncFormatter):  # labels that were given; they become words only when drawn
                    own.func = partial(_shown, own.func)
        return ax

    return drawn


def _shown(label: Callable[[float, int], str], value: float, place: int) -> str:
    return visible(label(value, place))


def saved(ax: Axes, path: Path) -> None:
    """Write the figure of axes to a file; its ending says the form.

    Raises
    ------
    FormatError
        If the ending is not a form of a figure, or the file cannot be written.
    """
    import matplotlib as mpl

    from ruddock.files import written_whole

    try:
        with mpl.rc_context(WORDS), written_whole(path, path.suffix) as temporary:
            ax.get_figure().savefig(temporary, dpi=150)  # type: ignore[union-attr]
    except ValueError as error:
        raise FormatError(f"the figure cannot be written: {error}", path=str(path)) from None


def svg(draw: Callable[[Axes], Axes], height: float) -> str:
    """Return a figure as SVG, whose text stays text."""
    import matplotlib as mpl

    with mpl.rc_context({"svg.fonttype": "none", "svg.hashsalt": "ruddock", "font.family": "sans-serif", **WORDS}):
        figure = plain_words(draw)(paper(height)).get_figure()
        assert figure is not None
        figure.patch.set_alpha(0.0)
        out = StringIO()
        figure.savefig(out, format="svg", metadata={"Date": None})  # type: ignore[union-attr]
    text = out.getvalue()
    return text[text.index("<svg") :]  # drawn by Matplotlib, which escapes the text in it


def in_key(name: str) -> str:
    """Return a name as a label of what is drawn; Matplotlib leaves out of its keys what begins with ``_``."""
    return f" {name}" if name.startswith("_") else name


def draw_key(ax: Axes, **how: Any) -> None:
    """Draw the key, where anything has a label."""
    if ax.get_legend_handles_labels()[1]:
        ax.legend(frameon=False, **how)


def label_ticks(ax: Axes, labels: Sequence[str], *, turn: bool | None = None) -> None:
    """Put labels at 0, 1, 2, … below axes: turned where they would touch, some left out where that is still close."""
    import numpy as np

    figure: Any = ax.get_figure()
    width = figure.get_size_inches()[0] * 0.8
    longest = max(map(len, labels), default=1)
    turned = longest * LETTER * len(labels) > 0.9 * width if turn is None else turn
    room = 0.17 if turned else (longest + 2) * LETTER  # inches for each label
    step = max(1, int(np.ceil(len(labels) * room / width)), -(-len(labels) // MOST_TICKS))
    shown = [label if len(label) <= 28 else f"{label[:27]}…" for label in labels]
    ax.set_xticks(np.arange(len(labels))[::step], shown[::step], rotation=90 if turned else 0)


def leave_room(ax: Axes, top: float = 0.12) -> None:
    """Leave room above what is drawn, so that nothing touches the frame."""
    low, high = ax.get_ylim()
    ax.set_ylim(low, high + top * (high - low))
