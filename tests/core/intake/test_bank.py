"""The bank of files as people have them: each is read as a careful person would, or refused in words."""

import numpy as np
import pytest
from tests.core.intake.bank import CASES, Case

import proteron as pt


@pytest.mark.parametrize("case", [case for case in CASES if not case.refusal], ids=lambda case: case.name)
def test_read_as_a_careful_person_would(case: Case) -> None:
    reading = pt.read_table(case.content, recipe=case.recipe or None, zone=case.zone)
    panel = reading.panel
    assert (panel.step, panel.keys) == (case.step, case.keys)
    if case.first:
        assert panel.times(panel.keys[0])[0] == np.datetime64(case.first, "s")
    assert int(np.isfinite(panel.series(0)).nonzero()[0].max()) + 1 == case.length
    assert panel.series(0)[: len(case.head)].tolist() == pytest.approx(list(case.head), rel=1e-12)
    roles = reading.account["roles"]
    assert {name: roles.get(name, "ignore") for name in case.roles} == case.roles
    said = {finding.code for finding in reading.findings}
    assert set(case.findings) <= said
    assert said.isdisjoint(case.silent)


@pytest.mark.parametrize("case", [case for case in CASES if case.refusal], ids=lambda case: case.name)
def test_refused_in_words(case: Case) -> None:
    with pytest.raises(pt.InputError, match=case.refusal):
        pt.read_table(case.content, recipe=case.recipe or None, zone=case.zone)
