"""What an aim proposes passes full scale nowhere, unless its source did."""

import math
from dataclasses import replace

import numpy as np

from reins.core.trials.aims.base import Proposal, Work


def below_full_scale(proposal: Proposal, work: Work) -> Proposal:
    """A proposal by which nothing passes full scale, unless its source did: its output, or its line, comes down by what
    is too much, and that is said.
    """
    came = float(work.source().peak.max(initial=0.0))
    if proposal.line is not None:
        hop_s = work.marks.frames.hop / work.marks.frames.sample_rate
        peak = work.source().peak
        at_s, db = [at for at, _, _ in proposal.line], [gain for _, gain, _ in proposal.line]
        gain_db = np.interp(np.arange(peak.size) * hop_s, at_s, db)
        made = float((peak * 10.0 ** (gain_db / 20.0)).max(initial=0.0))
    elif "output_db" in type(work.entry.settings).model_fields and proposal.settings:
        made = float(work.run(proposal.settings).peak.max(initial=0.0))
    else:
        return proposal
    if made <= max(1.0, came):
        return proposal
    by_db = math.ceil(200.0 * math.log10(made / max(came, 1.0))) / 10.0 + 0.1
    said = f"{proposal.reason} All of it comes down by {by_db:.1f} dB, so that nothing passes full scale."
    figures = proposal.figures | {"down_db": by_db}
    if proposal.line is not None:
        line = [(at, round(db - by_db, 1), bend) for at, db, bend in proposal.line]
        return replace(proposal, line=line, reason=said, figures=figures)
    own = proposal.settings.get("output_db", vars(work.entry.settings)["output_db"])
    settings = proposal.settings | {"output_db": round(work.within("output_db", own - by_db), 1)}
    return replace(proposal, settings=settings, reason=said, figures=figures)
