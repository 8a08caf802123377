"""What came of a blind test, kept with the session."""

from typing import Literal

from reins.core.sessionparts import MOST_JUDGEMENTS, Judgement
from reins.core.sessions import Document
from reins.core.settings.models import Strict


class KeepJudgement(Strict):
    """Keep what came of a blind test; of very many the latest stay."""

    kind: Literal["keep_judgement"]
    judgement: Judgement

    def apply(self, document: Document) -> tuple[Document, str]:
        """Document with it, and the label."""
        judged = [*document.judged, self.judgement][-MOST_JUDGEMENTS:]
        label = f"{self.judgement.strip}: blind test, {self.judgement.a} and {self.judgement.b}"
        return document.model_copy(update={"judged": judged}), label
