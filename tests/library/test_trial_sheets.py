"""Trial sheets: made, run, adopted, thrown away; the shot's own bakes are never touched by them."""

import pytest

from zembrik.core.problem import Problem
from zembrik.core.trials.plan import Trial
from zembrik.farm.worker import run_bake
from zembrik.library import bakes, trials
from zembrik.library.shots import Conflict, edit, get_shot, undo


def substeps(*values: int) -> list[Trial]:
    return [Trial(f"substeps {v}", [{"op": "add", "path": "/quality/substeps", "value": v}]) for v in values]


@pytest.fixture
def run_sheet(database, shot):
    """A sheet of three runs, all done."""
    with database.session() as session:
        sheet = trials.create_sheet(session, shot, "substeps", substeps(5, 10, 20), 6).id
        numbers = [b.id for b in trials.trials_on(session, sheet)]
    for number in numbers:
        run_bake(database, number)
    return sheet, numbers


def test_trials_are_baked_apart_from_the_shot_and_one_is_adopted(database, shot, run_sheet):
    sheet, numbers = run_sheet
    with database.session() as session:
        done = trials.trials_on(session, sheet)
        assert [b.state for b in done] == ["done"] * 3 and [b.cache.done for b in done] == [6] * 3
        assert len({b.setup_hash for b in done}) == 3
        assert bakes.bakes_of(session, shot) == [] and bakes.shown_bake(session, shot) is None
        revision = trials.adopt(session, sheet, numbers[0])
        assert revision.number == 2 and revision.document["quality"]["substeps"] == 5
        assert revision.setup_hash == done[0].setup_hash
        shown = bakes.shown_bake(session, shot)
        assert shown.id == numbers[0] and bakes.stale_reasons(shown, get_shot(session, shot).head) == []
    with database.session() as session:
        going_on = bakes.queue_bake(session, shot)  # the shot is longer than the trial: it is carried on
        assert going_on.id == numbers[0] and going_on.last == 12
    run_bake(database, numbers[0])
    with database.session() as session:
        assert bakes.get_bake(session, numbers[0]).cache.done == 12
        undo(session, shot)
        assert bakes.stale_reasons(bakes.shown_bake(session, shot), get_shot(session, shot).head) != []


def test_a_bake_of_values_that_a_trial_has_is_that_trial(database, shot, run_sheet):
    """The second trial has the shot's own values: baking the shot goes on with it."""
    _, numbers = run_sheet
    with database.session() as session:
        assert bakes.queue_bake(session, shot).id == numbers[1]


def test_adopting_over_somebody_elses_change_is_a_conflict(database, shot, run_sheet):
    sheet, numbers = run_sheet
    with database.session() as session:
        edit(session, shot, 1, [{"op": "add", "path": "/quality/substeps", "value": 33}], "by hand")
    with pytest.raises(Conflict), database.session() as session:
        trials.adopt(session, sheet, numbers[2])


def test_a_sheet_is_thrown_away_with_its_caches_but_not_what_was_adopted(database, shot, run_sheet):
    sheet, numbers = run_sheet
    settings = database.settings
    with database.session() as session:
        trials.adopt(session, sheet, numbers[2])
        folders = [bakes.cache_path(settings, b) for b in trials.trials_on(session, sheet)]
    with database.session() as session:
        assert trials.throw_away(session, settings, sheet) == shot
    assert [f.exists() for f in folders] == [False, False, True]
    with database.session() as session:
        assert bakes.shown_bake(session, shot).id == numbers[2]
        with pytest.raises(Problem, match="no trial sheet"):
            trials.get_sheet(session, sheet)


def test_what_cannot_be_run_is_told_and_leaves_nothing(database, shot):
    wrong = [*substeps(5), Trial("too many", [{"op": "add", "path": "/quality/substeps", "value": 100000}])]
    for planned, last, words in (
        (wrong, 6, "at most 400"), (substeps(5, 6), 1, "nothing from frame"), (substeps(5), 6, "2 to 48"),
    ):  # fmt: skip
        with pytest.raises(Problem, match=words), database.session() as session:
            trials.create_sheet(session, shot, "wrong", planned, last)
    with database.session() as session:
        assert trials.sheets_of(session, shot) == []
        sheet = trials.create_sheet(session, shot, "two", substeps(5, 6), 6).id
        with pytest.raises(Problem, match="still going on"):
            trials.throw_away(session, database.settings, sheet)
        trials.stop_all(session, sheet)
        assert trials.throw_away(session, database.settings, sheet) == shot


def test_a_cheaper_version_of_the_shot_lends_only_its_values(database, shot):
    """Trials with fewer points: who adopts one gets its values on the mesh there is, and no cache that is another's."""
    base = [{"op": "add", "path": "/bodies/0/mesh/segments", "value": [8, 8]}]
    with database.session() as session:
        sheet = trials.create_sheet(session, shot, "coarse", substeps(5, 20), 4, base=base)
        first, second = trials.trials_on(session, sheet.id)
        assert first.document["bodies"][0]["mesh"]["segments"] == [8, 8]
        number, sheet_id = second.id, sheet.id
    run_bake(database, number)
    with database.session() as session:
        revision = trials.adopt(session, sheet_id, number)
        assert revision.document["quality"]["substeps"] == 20
        assert revision.document["bodies"][0]["mesh"]["segments"] == [16, 16]
        assert bakes.shown_bake(session, shot) is None and not bakes.get_bake(session, number).adopted
