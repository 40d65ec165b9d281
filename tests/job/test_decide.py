"""Straighten or replace: the table of rules, row by row, and which row goes before which."""

from itertools import product
from pathlib import Path
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
from fairsquare.core.errors import Refused
from fairsquare.core.who import Who
from fairsquare.job.damage.choices import check_choice, member_states, order_of_work
from fairsquare.job.facts.damage import DecisionFact, MemberFact
from fairsquare.job.facts.job import JobFacts

WHO = Who(name="Ngozi Adeyemi", role="technician", at="2026-03-02T09:00:00.000000Z")


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


def test_the_table_in_the_docs_is_the_table_of_the_rules() -> None:
    docs = (Path(__file__).parents[2] / "docs" / "damage.md").read_text(encoding="utf-8")
    for row in RULES:
        assert f"| `{row.rule}` | {row.when} | {row.decision} | {row.override} | {row.why} |" in docs


def member(number: int, layer: str, **more) -> MemberFact:
    whole = {"material": "mild", "role": "structural", "signs": ("bent",), "maker": MakersWord(), "source": "", **more}
    return MemberFact(id=number, member="right rail", layer=layer, by=WHO, **whole)


def choice(seen: int, decision: str, **more) -> DecisionFact:
    plain = {
        "reason": "",
        "gives_up": "",
        "remains": "",
        "consent": "",
        "first": "",
        "hours": None,
        "donor": "",
        **more,
    }
    return DecisionFact(id=seen, seen=seen, decision=decision, by=WHO, **plain)


def test_the_inner_layer_comes_home_before_the_outer_one_is_cut() -> None:
    facts = JobFacts(
        number="SL-0001",
        sheet=None,
        sheet_version=None,
        members=(member(1, "outer"), member(2, "inner"), member(3, "cap", role="sacrificial")),
        decisions=(choice(1, "section", first="lamp off"), choice(2, "straighten"), choice(3, "replace_at_seams")),
    )
    order = order_of_work(member_states(facts))
    assert order["right rail, outer"] == ("lamp off", "after right rail, inner is home")
    assert order["right rail, inner"] == ()
    assert order["right rail, cap"] == ("after the last pull: it is something to pull by",)


@pytest.mark.parametrize(
    ("seen", "chosen", "role", "said", "field"),
    [
        (member(1, ""), "straighten", "technician", {}, None),
        (member(1, ""), "section", "technician", {"reason": "it is quicker so"}, "decision"),
        (member(1, ""), "section", "lead", {"reason": "short"}, "reason"),
        (member(1, ""), "section", "lead", {"reason": "the donor is here already"}, None),
        (member(1, ""), "try", "technician", {"reason": "worth a morning", "gives_up": "no"}, "gives_up"),
        (member(1, ""), "try", "technician", {"reason": "worth a morning", "gives_up": "a crack shows"}, None),
        (member(1, ""), "leave", "technician", {"reason": "so the owner says", "remains": "4 mm left"}, "consent"),
        (member(1, "", material="press_hardened"), "straighten", "lead", {"reason": "it looks easy"}, "decision"),
        (
            member(1, "", material="press_hardened"),
            "try",
            "lead",
            {"reason": "it looks easy", "gives_up": "a crack shows"},
            "decision",
        ),
        (
            member(1, "", material="press_hardened"),
            "straighten_then_replace",
            "technician",
            {"reason": "the sill hangs on it"},
            None,
        ),
        (
            member(1, "", material="press_hardened", role="sacrificial"),
            "straighten",
            "lead",
            {"reason": "it comes off later in any case"},
            "decision",
        ),
        (member(1, "", material="press_hardened", signs=()), "try", "lead", {"reason": "as it is seen"}, "decision"),
        (
            member(1, "", material="press_hardened"),
            "leave",
            "technician",
            {"reason": "so the owner says", "remains": "4 mm left", "consent": "the owner, by letter"},
            "decision",
        ),
    ],
)
def test_who_may_choose_otherwise_and_with_what(seen, chosen, role, said, field) -> None:
    given = {"reason": "", "gives_up": "", "remains": "", "consent": "", **said}
    if field is None:
        check_choice(seen, chosen, role, **given)
        return
    with pytest.raises(Refused) as fault:
        check_choice(seen, chosen, role, **given)
    assert fault.value.field == field
