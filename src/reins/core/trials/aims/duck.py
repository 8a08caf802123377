"""Step back: so many dB down while another track sounds, and back before it sounds again."""

from reins.core.trials.aims.base import Aim, Asks, Proposal, Work
from reins.core.trials.ducking import lay
from reins.errors import ConflictError


class StepBack(Aim):
    """What is held at the key's hits, or while it speaks, and whether it is back; see the table of aims."""

    name = "duck"
    label = "Step back"
    about = "It steps back by so many dB at each hit of another track, or while that speaks, and comes back behind it."
    types: tuple[str, ...] = ("ducker",)
    asks = Asks("by_db", "Back by", 9.0, 1.0, 40.0, "How far it steps back while the other sounds.")
    shows = "phrases"
    wants_key = True
    window_s = 5.0

    def propose(self, work: Work) -> Proposal:
        """Laid by the key, then measured; see trials.ducking."""
        assert work.key is not None
        laid = lay(work.entry, work.trial.keys, work.key, work.asked)
        if laid is None:
            raise ConflictError("The key is silent: nothing to step back for. Choose another key.")
        work.runs += laid.runs
        reason = f"{laid.said[0].upper()}{laid.said[1:]}."
        return Proposal(laid.settings, reason, laid.figures, laid.reached)
