"""Every stage that can be put in says what it is for, when not, what to listen for, what fools one."""

from dataclasses import astuple

from miclane.core.stages.base import Stage, load_kinds
from miclane.core.stages.help import HELP


def test_every_stage_has_its_four_sentences_of_its_own() -> None:
    load_kinds()
    assert set(HELP) == {kind for kind, cls in Stage.kinds.items() if cls.insertable}
    said = [words for each in HELP.values() for words in astuple(each)]
    assert len(set(said)) == len(said)
    for words in said:
        assert 20 < len(words) < 150 and words[0].isupper() and words[-1] == ".", words
