"""The demo's data: the same for everyone, of any size, with the dirt it is said to have."""

import hashlib

import pytest

from kivvet.core.words.errors import OutputError
from kivvet.demo.story import CHANGE, MENDING, make_edit, write_survey
from kivvet.demo.survey_data import survey_samples


def test_the_samples_are_the_same_everywhere(tmp_path):
    write_survey(tmp_path / "survey")
    content = (tmp_path / "survey/data/samples.csv").read_bytes()
    assert hashlib.sha256(content).hexdigest()[:16] == "1c8bb895a5d6c781"
    assert survey_samples(3600).equals(survey_samples(3600))
    assert not survey_samples(3600, seed=1).equals(survey_samples(3600))


@pytest.mark.parametrize("n_rows", [0, 1, 17, 20_000])
def test_there_are_as_many_as_asked_for(n_rows):
    table = survey_samples(n_rows)
    assert table.num_rows == n_rows
    assert len(set(table["sample_id"].to_pylist())) == n_rows


def test_the_planted_dirt_is_there():
    table = survey_samples()
    assert "0099" in table["station"].to_pylist()
    assert {"PR ", "XR", "NA"} <= set(table["method"].to_pylist())
    assert "" in table["ph"].to_pylist() and "-9" in table["oxygen"].to_pylist()
    assert any("24" < value < "25" for value in table["nitrate"].to_pylist() if len(value) == 4)


def test_every_edit_of_the_story_finds_its_line_and_only_once(tmp_path):
    write_survey(tmp_path / "survey")
    for edit in (*MENDING, CHANGE):
        make_edit(tmp_path / "survey", edit)
    with pytest.raises(OutputError, match="any more"):
        make_edit(tmp_path / "survey", CHANGE)


def test_a_folder_that_is_not_empty_is_left_alone(tmp_path):
    (tmp_path / "mine.txt").write_text("x")
    with pytest.raises(OutputError, match="not empty"):
        write_survey(tmp_path)
    assert [path.name for path in tmp_path.iterdir()] == ["mine.txt"]
