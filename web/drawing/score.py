"""How good forecasts were: at each checkpoint, how many ranges contained the end."""

from __future__ import annotations

from django.utils.safestring import SafeString

from needle.trial.trial_summary import Score
from web.drawing.svg import Svg

WIDTH, _ROW, _LEFT, _WIDE = 330, 34, 92, 226
_NAMES = ("at the start", "after a third", "at half time", "after 4 fifths")
#: Trials that are drawn one by one; more than that are drawn as a bar.
_MOST_MARKS = 16
#: Share of ranges that should hold: they go from the 10th to the 90th percentile.
_WANTED = 0.8


def drawing_of(score: Score) -> SafeString:
    """One row per checkpoint: a mark for each trial, filled if its range contained the end."""
    checkpoints = [
        (name, checkpoint)
        for name, checkpoint in zip(_NAMES, score.checkpoints, strict=True)
        if checkpoint.trials
    ]
    words = "; ".join(
        f"{name} {checkpoint.covered} of {checkpoint.trials} held"
        for name, checkpoint in checkpoints
    )
    svg = Svg(
        WIDTH, _ROW * len(checkpoints) + 6, "How often the range held the end", words, "score"
    )
    for number, (name, checkpoint) in enumerate(checkpoints):
        y = _ROW * number + 16
        svg.words(0, y + 4, name, "score-label")
        if checkpoint.trials <= _MOST_MARKS:
            step = min(18.0, _WIDE / checkpoint.trials)
            for mark in range(checkpoint.trials):
                css = "score-held" if mark < checkpoint.covered else "score-missed"
                svg.add("circle", cx=_LEFT + step * (mark + 0.5), cy=y, r=5, css=css)
        else:
            svg.rect(_LEFT, y - 5, _WIDE, 10, "score-missed")
            svg.rect(_LEFT, y - 5, _WIDE * checkpoint.covered / checkpoint.trials, 10, "score-held")
            at = _LEFT + _WIDE * _WANTED
            svg.line(at, y - 8, at, y + 8, "score-wanted")
    return svg.render()
