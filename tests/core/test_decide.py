"""Straighten or replace: the table of rules, row by row, and which row goes before which."""

from itertools import product
from typing import get_args

import pytest

from fairsquare.core.damage.decide import (
    RULES,
    DecideMember,
    MakersWord,
    Material,
    MemberRole,
    MemberSeen,
    Rule,
    Sign,
    decide_member,
)


def decided(material="mild", role="structural", signs=("bent",), **word):
    seen = MemberSeen(material=material, role=role, signs=signs)
    return decide_member(DecideMember(member=seen, maker=MakersWord(**word)))


@pytest.mark.parametrize(
    ("seen", "rule", "decision", "override"),
    [
        ({"signs": ()}, "no_signs", "keep", "lead"),
        ({"signs": (), "material": "press_hardened", "straighten": False}, "no_signs", "keep", "lead"),
        ({"role": "sacrificial", "material": "composite"}, "sacrificial", "replace_at_seams", "lead"),
        ({"material": "composite", "section": True}, "composite", "inspect", "never"),
        ({"material": "press_hardened", "straighten": True}, "press_hardened", "replace_at_seams", "never"),
        ({"material": "press_hardened", "section": True}, "press_hardened", "section", "never"),
        ({"straighten": False}, "maker_forbids", "replace_at_seams", "never"),
        ({"material": "casting", "straighten": False}, "maker_forbids", "replace_at_seams", "never"),
        ({"material": "casting"}, "casting", "replace_at_seams", "lead"),
        ({"material": "ultra_high_strength", "straighten": True}, "ultra_high_strength", "replace_at_seams", "lead"),
        ({"role": "crush_zone", "signs": ("buckled",)}, "crush_zone", "replace_at_seams", "lead"),
        ({"role": "crush_zone", "signs": ("bent",)}, "bent", "straighten", "lead"),
        ({"signs": ("rusted_through",)}, "broken", "replace_at_seams", "lead"),
        ({"signs": ("bent", "kinked"), "section": True}, "broken", "section", "lead"),
        ({"signs": ("buckled",)}, "bent", "straighten", "lead"),
        ({"material": "aluminium", "signs": ("buckled",)}, "aluminium_stretched", "replace_at_seams", "lead"),
        ({"material": "aluminium", "signs": ("torn", "stretched")}, "broken", "replace_at_seams", "lead"),
        ({"signs": ("stretched",)}, "bent", "straighten", "lead"),
        ({"signs": ("bent", "repaired_before")}, "unknown_past", "inspect", "lead"),
        ({"signs": ("cracked", "heat_marked")}, "broken", "replace_at_seams", "lead"),
        ({"signs": ("seam_torn",)}, "bent", "straighten", "lead"),
    ],
)
def test_the_first_rule_that_applies_decides(seen, rule, decision, override) -> None:
    found = decided(**seen)
    assert (found.rule, found.decision, found.override) == (rule, decision, override)
    assert found.words.endswith(".")


def test_conditions_go_with_the_decision() -> None:
    assert decided(heat=None).conditions == ("No heat.",)
    assert decided(heat=True).conditions == ()
    assert "Dye test after every pull." in decided(material="aluminium").conditions
    assert any("bonded or welded anew" in words for words in decided(signs=("seam_torn",), heat=True).conditions)
    assert any("Stress relief" in words for words in decided(signs=("buckled",), heat=True).conditions)
    assert any("maker's window" in words for words in decided(signs=("torn",)).conditions)
    assert decided(signs=("torn",), section=False).conditions == ()
    assert any("to pull by" in words for words in decided(role="sacrificial").conditions)
    assert "qualified for composites" in decided(material="composite").conditions[0]


def test_every_case_is_decided_and_nothing_press_hardened_is_ever_straightened() -> None:
    assert [row.rule for row in RULES] == list(get_args(Rule))
    for material, role, sign, word in product(
        get_args(Material), get_args(MemberRole), get_args(Sign), (None, True, False)
    ):
        found = decided(material=material, role=role, signs=(sign,), straighten=word)
        assert found.conditions or found.decision != "inspect"
        if material == "press_hardened" and role != "sacrificial":
            assert (found.decision, found.override) == ("replace_at_seams", "never")
        if word is False and found.decision == "straighten":
            pytest.fail(f"straightened against the maker's word: {material} {role} {sign}")
