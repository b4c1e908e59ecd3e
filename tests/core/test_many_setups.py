"""One program for several setups: its order, its work offsets, its proof in each; programs split by tool."""

from functools import cache
from itertools import permutations

import numpy as np
import pytest
from hypothesis import given, settings
from hypothesis import strategies as st

from fenrik.core.errors import FenrikError
from fenrik.core.job.document.reading import job_from_data
from fenrik.core.job.opening import open_job
from fenrik.core.job.programs.ordering import _greedy, as_planned, changes, fewest_changes
from fenrik.core.job.proving.proving import Prover
from fenrik.core.job.workspace.artefacts import MemoryStore
from fenrik.core.posting.compare import compare
from fenrik.core.posting.program import Program, Step
from fenrik.core.posting.reading.readback import Reader
from fenrik.core.posting.writing.dialect import dialect, dialects
from fenrik.core.posting.writing.writer import write
from tests.conftest import make_tool
from tests.core.test_holes import cylinder, drilled
from tests.core.test_posting import some_path

plans = st.lists(st.lists(st.integers(1, 4), max_size=5), min_size=1, max_size=3)


def fewest_by_trying(tools):
    """The fewest changes over every way to go through the setups, by plain recursion."""

    @cache
    def rest(at, held):
        found = [
            (tool != held) + rest(tuple(a + (s == i) for i, a in enumerate(at)), tool)
            for s in range(len(tools))
            if at[s] < len(tools[s])
            for tool in [tools[s][at[s]]]
        ]
        return min(found, default=0)

    return rest(tuple(0 for _ in tools), None)


@settings(max_examples=200, deadline=None)
@given(tools=plans)
def test_no_order_has_fewer_changes_and_each_setup_keeps_its_own(tools):
    order = fewest_changes(tools)
    assert sorted(order) == as_planned(tools)
    for s in range(len(tools)):
        assert [i for t, i in order if t == s] == list(range(len(tools[s])))
    assert changes(order, tools) == fewest_by_trying(tools) <= changes(as_planned(tools), tools)


@given(tools=plans)
def test_the_quick_order_is_an_order_too(tools):
    from itertools import groupby

    runs = [[(t, len(list(g))) for t, g in groupby(own)] for own in tools]
    chosen = _greedy(runs)
    for own in runs:  # every setup's tools come in their order among the chosen
        left = iter(chosen)
        assert all(tool in left for tool, _ in own)


def test_many_operations_are_ordered_at_once():
    tools = [[1 + (i * k) % 7 for i in range(40)] for k in (1, 2, 3, 5)]
    assert changes(fewest_changes(tools), tools) < 0.6 * changes(as_planned(tools), tools)


@pytest.mark.parametrize("name", [d.id for d in dialects().values() if d.drives == "mill"])
@settings(max_examples=30, deadline=None)
@given(
    steps=st.lists(
        st.tuples(st.integers(0, 5000), st.integers(1, 2), st.sampled_from([54, 55, 57])),
        min_size=1,
        max_size=5,
    )
)
def test_text_on_several_offsets_means_what_was_planned(name, steps):
    heights = {54: 120.0, 55: 90.0, 57: 200.0}
    made = [
        Step(
            f"Op {i}",
            make_tool("flat", 8, number=tool),
            some_path(seed),
            4000.0,
            True,
            "flood",
            f"G{offset}",
            heights[offset],
        )
        for i, (seed, tool, offset) in enumerate(steps)
    ]
    plan = Program("Test", 7, "part", "A, B", "zero", made[0].work_offset, made, made[0].tool_change_z)
    words = dialect(name)
    reader = Reader(plan.change_heights())
    motion = reader.read(write(plan, words))
    result = compare(plan.planned(), motion, words.resolution_mm)
    assert result.differences == [] and reader.findings == []
    assert reader.work_offsets == list(dict.fromkeys(s.work_offset for s in made))
    offsets = np.array([int(s.work_offset[1:]) for s in made])
    assert (motion.offset == offsets[result.step_of]).all()


def test_a_step_on_the_wrong_offset_is_a_difference():
    steps = [
        Step(f"Op {i}", make_tool("flat", 8), some_path(i), 4000.0, True, "flood", offset, 120.0)
        for i, offset in enumerate(("G54", "G55"))
    ]
    plan = Program("Test", 7, "part", "A, B", "zero", "G54", steps, 120.0)
    text = write(plan, dialect("plain_iso"))
    wrong = Reader(plan.change_heights()).read(text.replace("G55", "G56"))
    found = compare(plan.planned(), wrong, 0.001).differences
    assert found and "runs on G56 instead of G55" in found[0].words


def test_an_offset_that_changes_while_the_tool_is_low_is_refused():
    text = (
        "G21 G90 G17 G94\nT1 M6\nG54\nS900 M3\nG0 X0 Y0\nG43 H1 Z5\nG1 Z-1 F100\nG55\nG0 X9 Y9\nG1 Z-2\nM30\n"
    )
    with pytest.raises(FenrikError, match="unknown place"):
        Reader({"G54": 100.0, "G55": 100.0}).read(text)


@pytest.fixture(scope="module")
def block(tmp_path_factory):
    """60 x 40 x 20 with a through hole of 8 at (45, 15)."""
    return drilled(tmp_path_factory.mktemp("block"), [cylinder(45, 15, 0, 4, 20)])


MILL = make_tool("flat", 12.0, number=1, flute_length=30.0, stick_out=50.0)
DRILL = make_tool("drill", 8.0, number=2, point_deg=118.0, flute_length=40.0, stick_out=60.0)


def prover(block, *releases, machines=("column_mill_500",) * 2, offsets=("G54", "G55"), x=(-100.0, 100.0)):
    hole = {"at": [15.0, -5.0], "top": -1.0, "diameter": 8.0, "depth": 20.0, "through": True}
    operations = [
        {"name": "Face", "strategy": "facing", "tool": 1},
        {
            "name": "Drill",
            "strategy": "drilling",
            "tool": 2,
            "parameters": {"cycle": "drill"},
            "holes": [hole],
        },
        {
            "name": "Around",
            "strategy": "profile",
            "tool": 1,
            "walls": [{"outline": True}],
            "parameters": {"step_down": 12.0},
        },
    ]
    setups = [
        {"name": n, "machine": m, "work_offset": o, "placement": {"x": at}, "operations": operations[:count]}
        for n, m, o, at, count in zip("AB", machines, offsets, x, (3, 2), strict=True)
    ]
    data = {
        "fenrik": 1,
        "name": "many",
        "part": {"file": block.name},
        "tools": [t.model_dump(mode="json") for t in (MILL, DRILL)],
        "setups": setups,
        "proof": {"cell_mm": 0.5},
        "releases": list(releases),
    }
    return Prover(open_job(job_from_data(data), block.parent, MemoryStore()))


TOGETHER = {"name": "both", "setup": "A", "also": ["B"], "order": "fewest_changes"}


def test_both_setups_are_proved_against_their_own_stock_in_one_program(block):
    whole = prover(block, TOGETHER, {"name": "a", "setup": "A"}, {"name": "b", "setup": "B"})
    both, a, b = whole.job.releases
    proofs = whole.prove_whole(both)
    assert [p.facts["setup"] for p in proofs] == ["A", "B"] and len({p.facts["text"] for p in proofs}) == 1
    text = proofs[0].facts["text"]
    assert text.index("G54") < text.index("G55")
    for proof, alone in zip(proofs, (whole.prove(a), whole.prove(b)), strict=True):
        assert not proof.stops()
        assert proof.facts["removed_mm3"] == pytest.approx(alone.facts["removed_mm3"], rel=1e-9)
        assert proof.facts["deviation"]["max_overcut_mm"] == pytest.approx(
            alone.facts["deviation"]["max_overcut_mm"], abs=1e-9
        )
        assert [o["name"] for o in proof.facts["operations"]] == [
            o["name"] for o in alone.facts["operations"]
        ]
    for proof in proofs:  # each tells of all steps, with their offsets, one after the other
        rows = proof.facts["program"]
        assert [(r["setup"], r["name"], r["offset"]) for r in rows] == [
            ("A", "Face", "G54"),
            ("B", "Face", "G55"),
            ("A", "Drill", "G54"),
            ("B", "Drill", "G55"),
            ("A", "Around", "G54"),
        ]
        moments = [t for r in rows for t in (r["begin_s"], r["end_s"])]
        assert np.diff([*moments, proof.facts["time_s"]]).min() > -1e-6
    # face, face, drill, drill, around: two changes instead of face, drill, around, face, drill with four
    assert proofs[0].facts["tool_changes"] == 3
    change = whole.paths.setups.machine(whole.job.setups[0]).tool_change_s
    assert proofs[0].facts["order_saves_s"] == pytest.approx(1 * change)
    assert any("saves" in f["words"] for f in proofs[0].facts["findings"])
    singles = sum(whole.prove(r).facts["time_s"] for r in (a, b))
    assert proofs[0].facts["time_s"] < singles


def test_order_as_planned_goes_setup_after_setup(block):
    whole = prover(block, {**TOGETHER, "order": "planned"})
    posted = whole.post(whole.job.releases[0])
    assert [(s.name, o.name) for s, o in zip(posted.setups, posted.operations, strict=True)] == [
        ("A", "Face"),
        ("A", "Drill"),
        ("A", "Around"),
        ("B", "Face"),
        ("B", "Drill"),
    ]
    assert posted.tool_changes == 4 and posted.order_saves_s == 0.0


def test_travels_are_held_against_the_place_of_each_setup(block):
    far = prover(block, TOGETHER, x=(-100.0, 240.0))
    a, b = (p.stops() for p in far.prove_whole(far.job.releases[0]))
    assert a == [] and {f["kind"] for f in b} == {"travel"}
    assert all("beyond the upper end of X" in f["words"] and f["setup"] == "B" for f in b)


def test_blanks_that_stand_in_each_other_are_a_stop(block):
    close = prover(block, TOGETHER, x=(-20.0, 20.0))
    stops = close.prove(close.job.releases[0]).stops()
    assert any("'A' and 'B' stand 24.0 mm in each other" in f["words"] for f in stops)


@pytest.mark.parametrize(
    ("more", "words"),
    [
        ({"offsets": ("G54", "G54")}, "both use G54"),
        ({"machines": ("column_mill_500", "column_mill_800")}, "on different machines"),
        ({"release": {**TOGETHER, "also": ["C"]}}, "names the setup 'C'"),
        ({"release": {**TOGETHER, "also": ["A"]}}, "'A' is used twice"),
        ({"release": {**TOGETHER, "operations": ["Face"]}}, "switch operations off in their setups"),
    ],
)
def test_setups_that_cannot_run_together_are_refused(block, more, words):
    release = more.pop("release", TOGETHER)
    with pytest.raises(FenrikError, match=words):
        prover(block, release, **more)


def test_split_by_tool_every_file_stands_for_itself_and_all_together_are_the_program(block):
    split = prover(block, {"name": "s", "setup": "A", "split": "tool", "program_number": 30})
    facts = split.prove(split.job.releases[0]).facts
    assert [name for name, _ in facts["files"]] == ["s_1_T1.nc", "s_2_T2.nc", "s_3_T1.nc"]
    assert ["O0030" in t or "O0031" in t or "O0032" in t for _, t in facts["files"]] == [True] * 3
    posted = split.post(split.job.releases[0])
    ends = [Reader(posted.program.tool_change_z).read(text).tip for _, text in facts["files"]]
    whole = posted.motion.tip
    for part in ends:  # each is a stretch of the whole, but for the way over to its start
        at = np.flatnonzero((whole == part[1]).all(axis=1))
        assert any(np.array_equal(whole[i : i + len(part) - 1], part[1:]) for i in at)
    assert sum(len(e) for e in ends) >= len(whole) - 3


def test_greedy_is_used_where_there_are_too_many_states(monkeypatch):
    monkeypatch.setattr("fenrik.core.job.programs.ordering.MOST_STATES", 10)
    tools = [list(p) for p in list(permutations([1, 2, 3, 4, 5]))[:4]]
    order = fewest_changes(tools)
    assert sorted(order) == as_planned(tools)
