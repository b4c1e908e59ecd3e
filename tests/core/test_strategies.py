"""Contract of every strategy on several parts: no overcut (judged on exact points of the B-rep), climb
where climb was asked, determinism, progress and cancelling; levels and areas."""

import time
from dataclasses import replace

import numpy as np
import pytest
from scipy.spatial import cKDTree
from shapely.geometry import Point

from fenrik.core.cutting.drop import DropCutter, Profile
from fenrik.core.cutting.levels import LevelAreas
from fenrik.core.cutting.topology import prepare
from fenrik.core.errors import Cancelled, ComputeError
from fenrik.core.job.document.reading import job_from_data
from fenrik.core.job.opening import open_job
from fenrik.core.job.paths.paths import Paths
from fenrik.core.job.paths.standing import path_pieces
from fenrik.core.job.workspace.artefacts import MemoryStore
from fenrik.core.model.reading import read_model, working_mesh
from fenrik.core.motion import table
from fenrik.core.motion.moves import Motion
from fenrik.core.progress import Progress
from fenrik.core.stock.dexels import Stock, tool_bodies
from fenrik.core.stock.heightmap import pieces_of
from fenrik.core.strategies.levels.level_roughing import levels_between
from fenrik.core.strategies.registry import strategies
from fenrik.core.tolerances import CONTACT_MM
from fenrik.core.tooling.assembly import TITLES
from tests.conftest import MODELS, make_tool

TOOLS = {"flat": make_tool("flat", 8), "ball": make_tool("ball", 6), "corner": make_tool("corner", 8, 1.0)}
SHAPED = {
    "taper": make_tool("taper", 8, 0.5, taper_deg=10, tip_diameter=5),
    "taper_ball": make_tool("taper_ball", 8, 3.0, taper_deg=8),
    "lollipop": make_tool("lollipop", 8, 4.0, flute_length=7.4, shank_diameter=4.0),
    "t_slot": make_tool("t_slot", 10, 0.0, flute_length=5.0, shank_diameter=5.0),
}
PARTS = ["plate_a.step", "pillow_block.step", "bearing_bracket.step"]
PREPARED: dict[str, Paths] = {}
"""A planner of every part, whose readings of the model the others share."""


def planner(
    part: str, strategy: str, tool: str | None = None, alone: bool = False, **operation: object
) -> Paths:
    """A job with one operation, as the strategy's own example has it."""
    example, target = strategies()[strategy].example, strategies()[strategy].target
    picks = example.picks
    if picks and "" not in picks and part not in picks:
        part = next(iter(picks))  # the one part that has what the strategy needs
    if target != "areas":
        field = {"lines": "lines"} | dict.fromkeys(("walls", "rims", "ruled"), "walls")
        field = field.get(target, "holes")
        operation = {field: picks.get(part, picks.get(""))} | operation
    made = (
        make_tool(**example.tool) if tool is None and example.tool else (TOOLS | SHAPED)[tool or example.kind]
    )
    parameters = {"parameters": example.parameters}
    doc = {
        "fenrik": 1,
        "name": "contract",
        "part": {"file": part},
        "tools": [made.model_dump()],
        "setups": [
            {
                "name": "Top",
                "operations": [
                    # the path is asked for, in full stock, where many a shank would be in the way
                    {"name": "op", "strategy": strategy, "tool": 1, "when_short": "leave"}
                    | parameters
                    | operation
                ],
            }
        ],
    }
    plan = open_job(job_from_data(doc), MODELS, MemoryStore())
    if not alone:
        first = PREPARED.setdefault(part, plan)
        for known in ("_parts", "_meshes"):
            setattr(plan.workspace, known, getattr(first.workspace, known))
        for known in ("_topologies", "_outlines"):
            setattr(plan.setups, known, getattr(first.setups, known))
    return plan


def path_of(plan: Paths, progress: Progress | None = None):
    setup = plan.job.setups[0]
    return plan.path(setup, setup.operations[0], progress or Progress())


def deepest_cut(plan: Paths, path, tool) -> float:
    """How far the cutter reaches past exact points of the part's surface (vertices of a coarser
    tessellation lie on the B-rep), with positions every 0.15 mm along the path."""
    clamped = plan.setups.clamped(plan.job.setups[0])
    surface = working_mesh(plan.workspace.part(), 0.02).moved(clamped.setup_from_part).vertices
    if path.turns_axis:
        return deepest_of_poses(path, tool, surface)
    pieces = pieces_of(path, 0.0005)[0]
    steps = np.maximum(1, np.ceil(np.linalg.norm(pieces[:, 3:] - pieces[:, :3], axis=1) / 0.15)).astype(int)
    owner = np.repeat(np.arange(len(pieces)), steps)
    share = (np.arange(len(owner)) - np.repeat(np.cumsum(steps) - steps, steps) + 1)[:, None] / steps[owner][
        :, None
    ]
    tips = pieces[owner, :3] + share * (pieces[owner, 3:] - pieces[owner, :3])
    tips = tips[tips[:, 2] < surface[:, 2].max()]
    tree = cKDTree(tips[:, :2])
    worst = 0.0
    r, head = tool.radius, tool.flute_length if tool.kind in ("lollipop", "t_slot") else 1e9
    away = np.unique(np.concatenate([np.linspace(0.0, r, 2001), r - np.geomspace(1e-9, 0.1, 500)]))
    lift = np.array([tool.profile.height(d) for d in away])
    skin = cKDTree(np.column_stack([away, lift]))
    for point, near in zip(surface, tree.query_ball_point(surface[:, :2], r), strict=True):
        if not near:
            continue
        t = tips[near]
        d, up = np.hypot(*(t[:, :2] - point[:2]).T), point[2] - t[:, 2]
        over = up - np.interp(d, away, lift)
        depth = np.minimum(np.minimum(over, r - d), head - up)
        deep = depth > worst
        if deep.any():  # square to the skin, not upright
            square = skin.query(np.column_stack([d, up])[deep])[0]
            worst = max(worst, float(np.minimum(square, depth[deep]).max()))
    return worst


def deepest_of_poses(path, tool, surface) -> float:
    """The same for a tool whose axis moves, each position against every point."""
    poses, _ = path.moves.poses(0.0005, 0.15)
    r, worst = tool.radius, 0.0
    away = np.linspace(0.0, r, 2001)
    lift = np.array([tool.profile.height(d) for d in away])
    skin = cKDTree(np.column_stack([away, lift]))
    for pose in poses:
        arm = surface - pose[6:9]
        up = arm @ pose[9:]
        d = np.sqrt(np.maximum(0.0, (arm * arm).sum(axis=1) - up * up))
        deep = np.flatnonzero((d < r - worst) & (up > np.interp(d, away, lift) + worst))
        if len(deep):
            worst = max(
                worst, float(np.minimum(skin.query(np.column_stack([d, up])[deep])[0], r - d[deep]).max())
            )
    return worst


def rapid_in_stock(plan: Paths, path, tool) -> float:
    """The greatest overlap mm of the cutter with the stock, in interval dexels, while it moves at rapid."""
    clamped = plan.setups.clamped(plan.job.setups[0])
    stock = Stock.of_box(clamped.stock_low, clamped.stock_high, 0.8)
    pieces, owner = path_pieces(path, np.eye(4), 0.002)
    rapid = path.kind[owner + 1] == Motion.RAPID
    assert rapid.any()
    return float(stock.cut(pieces, tool_bodies(tool), rapid).overlap[:, 0].max())


CASES = [(s, part, tool) for s in strategies() for part in PARTS[:2] for tool in TOOLS] + [
    # the free-form top of the bracket is for round tools; walls, holes and rests the two prismatic parts have
    (s, PARTS[2], "ball")
    for s in strategies()
    if s not in ("rest_clearing", "profile", "bore_milling")
]


@pytest.mark.parametrize(("strategy", "part", "tool"), CASES)
def test_no_overcut_on_exact_surface_points(strategy, part, tool):
    if tool == "flat" and strategies()[strategy].example.kind == "ball":  # it refuses a flat cutter
        with pytest.raises(ComputeError, match="flat"):
            path_of(planner(part, strategy, tool))
        return
    if part == PARTS[2] and tool not in strategies()[strategy].kinds:
        tool = "flat"
    plan = planner(part, strategy, tool)
    if tool not in strategies()[strategy].kinds:
        with pytest.raises(ComputeError, match=TITLES[tool]):
            path_of(plan)
        return
    path = path_of(plan)
    assert len(path) > (20 if strategy == "inner_corners" else 50)
    # engraving is meant to go into the part, so far
    meant = 0.3 if strategy == "engraving" else 0.0
    assert deepest_cut(plan, path, TOOLS[tool]) <= 0.01 + meant
    assert rapid_in_stock(plan, path, TOOLS[tool]) <= CONTACT_MM


@pytest.mark.parametrize("tool", SHAPED)
@pytest.mark.parametrize("strategy", strategies())
def test_tapered_and_undercutting_tools_keep_the_contract_or_are_refused_by_name(strategy, tool):
    plan = planner("pillow_block.step", strategy, tool)
    if SHAPED[tool].kind not in strategies()[strategy].kinds or (
        tool == "t_slot" and strategies()[strategy].example.kind == "ball"
    ):
        fits = SHAPED[tool].kind in strategies()[strategy].kinds
        with pytest.raises(ComputeError, match="Tool 1 is flat" if fits else TITLES[tool]):
            path_of(plan)
        return
    path = path_of(plan)
    assert deepest_cut(plan, path, SHAPED[tool]) <= 0.01
    assert rapid_in_stock(plan, path, SHAPED[tool]) <= CONTACT_MM


@pytest.mark.parametrize("strategy", strategies())
def test_same_inputs_give_the_same_bytes(strategy):
    first, second = (path_of(planner("plate_a.step", strategy)).to_bytes() for _ in range(2))
    assert first == second


@pytest.mark.parametrize("strategy", strategies())
def test_progress_moves_and_cancelling_is_quick(strategy):
    seen: list[float] = []
    path_of(planner("bearing_bracket.step", strategy), Progress(lambda f, w: seen.append(f)))
    assert len(seen) > 5 and max(seen) > 0.5 and len(set(seen)) > 3
    started: list[float] = []

    def stop() -> bool:
        started.append(time.monotonic())
        return len(started) > 4

    with pytest.raises(Cancelled):
        path_of(planner("bearing_bracket.step", strategy), Progress(None, stop))
    assert time.monotonic() - started[-1] < 1.0


def test_changing_stick_out_or_name_recomputes_no_path():
    plan = planner("plate_a.step", "level_roughing")
    key = plan.keys.track(plan.job.setups[0], plan.job.setups[0].operations[0])
    data = plan.job.model_dump(mode="json")
    data["setups"][0]["operations"][0] |= {"name": "renamed", "coolant": "mist", "feed_mm_min": None}
    data["tools"][0]["holder"][0]["diameter_low"] = 20.0
    other = open_job(job_from_data(data), MODELS, MemoryStore())
    assert other.keys.track(other.job.setups[0], other.job.setups[0].operations[0]) == key
    data["tools"][0]["diameter"] = 7.9
    third = open_job(job_from_data(data), MODELS, MemoryStore())
    assert third.keys.track(third.job.setups[0], third.job.setups[0].operations[0]) != key


def test_levels_hit_every_flat_and_never_exceed_the_step():
    levels = levels_between(0.0, -34.0, 6.0, [-1.5, -19.8, -21.8, -25.8])
    assert levels[-1] == -34.0
    assert {-1.5, -19.8, -21.8, -25.8} <= {round(v, 9) for v in levels}
    assert max(a - b for a, b in zip([0.0, *levels], levels, strict=False)) <= 6.0 + 1e-9


@pytest.mark.parametrize(("kind", "corner"), [("flat", 0.0), ("corner", 2.0), ("ball", 4.0)])
def test_areas_are_the_real_offset_of_tool_against_a_ball(kind, corner):
    """Over a ball of radius 10, a cutter of corner radius r may come to the circle on which it touches:
    radius of blocked ground at height h over the centre: a + sqrt((10 + r)² - (h + r)²)."""
    import trimesh

    from tests.conftest import mesh_of

    cutter = DropCutter(prepare(mesh_of(trimesh.creation.icosphere(6, 10.0))), Profile(4.0, corner))
    areas = LevelAreas(cutter, np.array([-20.0, -20.0]), np.array([20.0, 20.0]), 0.5, 0.01)
    for height in (8.0, 5.0, 1.0):
        blocked = areas.blocked(height)
        expected = 4.0 - corner + np.sqrt((10 + corner) ** 2 - (height + corner) ** 2)
        radii = np.hypot(*np.asarray(blocked.exterior.coords).T[:2])
        assert radii.min() > expected - 0.02
        assert radii.max() < expected + 0.03
        assert blocked.contains(Point(0, 0))


def engaged_side(plan, path):
    """Share of cutting length with the wall (blocked ground) on the right of the motion, on closed walls."""
    right = left = 0.0
    part_mesh = working_mesh(plan.workspace.part(), 0.02).moved(
        plan.setups.clamped(plan.job.setups[0]).setup_from_part
    )
    cutter = DropCutter(prepare(part_mesh), Profile(4.0, 0.0), 0.3, 0.2)
    rows = np.flatnonzero((path.kind[1:] == 1) & (path.turn[1:] == 0)) + 1
    step = path.tip[rows] - path.tip[rows - 1]
    length = np.hypot(step[:, 0], step[:, 1])
    keep = length > 2.0
    rows, step, length = rows[keep], step[keep], length[keep]
    middle = 0.5 * (path.tip[rows] + path.tip[rows - 1])
    normal = np.column_stack([step[:, 1], -step[:, 0]]) / length[:, None]  # to the right
    for side, name in ((normal, "right"), (-normal, "left")):
        blocked = cutter.tip(middle[:, :2] + 0.1 * side) > middle[:, 2] + 1e-3
        total = float(length[blocked].sum())
        right, left = (total, left) if name == "right" else (right, total)
    return right, left


@pytest.mark.parametrize(
    ("direction", "spindle", "on_right"),
    [
        ("climb", "clockwise", True),
        ("conventional", "clockwise", False),
        ("climb", "counter_clockwise", False),
    ],
)
def test_climb_keeps_the_wall_on_the_right_of_a_clockwise_spindle(direction, spindle, on_right):
    """Common practice, no source: a right-hand cutter turning clockwise climbs with the wall on its right."""
    parameters = {"step_down": 6.0, "direction": direction}
    plan = planner("bearing_bracket.step", "level_roughing", parameters=parameters, spindle=spindle)
    right, left = engaged_side(plan, path_of(plan))
    assert max(right, left) > 300
    assert (right > 30 * left) if on_right else (left > 30 * right)


@pytest.mark.parametrize("along", ["x", "y"])
@pytest.mark.parametrize("style", ["to_and_fro", "one_way"])
def test_facing_leaves_the_parts_top_and_nothing_over_it(style, along):
    """The blank over the part is gone, to the edge; going one way the material lies where the teeth climb."""
    plan = planner("plate_a.step", "facing", parameters={"style": style, "along": along, "stepover": 5.0})
    path = path_of(plan)
    clamped = plan.setups.clamped(plan.job.setups[0])
    top = clamped.part_high[2]
    assert path.tip[:, 2].min() == pytest.approx(top)
    stock = Stock.of_box(clamped.stock_low, clamped.stock_high, 0.5)
    pieces, owner = pieces_of(path)
    stock.cut(pieces, tool_bodies(TOOLS["flat"]), path.kind[owner + 1] == Motion.RAPID)
    assert stock.top().max() == pytest.approx(top, abs=1e-4)
    if style == "one_way":
        rows = np.flatnonzero(path.kind[1:] == Motion.FEED) + 1
        step = path.tip[rows] - path.tip[rows - 1]
        assert (step[:, 0 if along == "x" else 1] > 0).all()
        first = rows[path.level[rows] == 0]
        to_next = path.tip[first[1:], :2] - path.tip[first[:-1], :2]
        right = np.column_stack([step[:, 1], -step[:, 0]])[: len(to_next)]
        assert ((to_next * right).sum(axis=1) > 0).all()  # what is still to be faced lies on the right


def test_keep_in_and_keep_out_bound_the_tool():
    plan = planner(
        "bearing_bracket.step",
        "parallel_finishing",
        "ball",
        keep_in=[{"polygon": [[-30, -20], [30, -20], [30, 20], [-30, 20]]}],
        keep_out=[{"polygon": [[-5, -40], [5, -40], [5, 40], [-5, 40]]}],
    )
    path = path_of(plan)
    cutting = path.tip[path.kind == 1]
    assert np.abs(cutting[:, 0]).max() <= 30.001 and np.abs(cutting[:, 1]).max() <= 20.001
    assert np.abs(cutting[:, 0]).min() >= 5 + 3 - 0.001  # the whole cutter stays out


def test_one_way_goes_one_way_and_the_angle_is_kept():
    plan = planner(
        "plate_a.step",
        "parallel_finishing",
        "ball",
        parameters={"style": "one_way", "angle_deg": 30.0, "spaced_by": "stepover", "stepover": 3.0},
    )
    path = path_of(plan)
    rows = np.flatnonzero((path.kind[1:] == 1) & (path.kind[:-1] == 1)) + 1
    step = path.tip[rows, :2] - path.tip[rows - 1, :2]
    step = step[np.hypot(*step.T) > 0.01]
    angle = np.degrees(np.arctan2(step[:, 1], step[:, 0]))
    assert angle == pytest.approx(30.0, abs=1e-3)


def test_entries_never_plunge_into_full_material():
    """Straight-down moves end where the planning stock is already gone, or over a thin skin."""
    plan = planner("bearing_bracket.step", "level_roughing")
    path = path_of(plan)
    setup = plan.job.setups[0]
    stock = plan.stock_before(setup, setup.operations[0])
    tool = TOOLS["flat"]
    for i in range(1, len(path)):
        a, b = path.tip[i - 1], path.tip[i]
        if path.kind[i] == 2 and np.hypot(*(b - a)[:2]) < 1e-9 and b[2] < a[2]:
            under = stock.top_at(b[None, :2], tool.radius - 1.5 * stock.half_diagonal)[0]
            assert under <= b[2] + 0.02 + 1e-9
        if path.kind[i] == 0 and b[2] <= a[2] + 1e-9:  # rapids across and down stay over everything near
            low = min(a[2], b[2])
            assert stock.top(a[:2], b[:2], tool.radius) <= low + 1e-9
        stock.cut(_one(path, i), tool.cleared)


def _one(path, i):

    s = slice(i - 1, i + 1)
    return replace(table.rows(path, s), notes=[], cycles=[], compensated=[])


def test_mesh_is_read_once_for_all_paths():
    plan = planner("plate_a.step", "level_roughing", alone=True)
    path_of(plan)
    path_of(plan)
    assert plan.store.computed == {"part": 1, "mesh": 1, "track": 1, "path": 1, "timing": 1, "made": 1}


def test_keys_of_a_long_plan_are_worked_out_once_each(monkeypatch):
    """Every operation stands on those before it: sixteen of them must not ask for the part 2^16 times."""
    from fenrik.core.job.workspace import files

    asked: list[int] = []
    real = files.file_hash
    monkeypatch.setattr(files, "file_hash", lambda path: (asked.append(1), real(path))[1])
    document = planner("plate_a.step", "level_roughing", alone=True).job.model_dump(mode="json")
    first = document["setups"][0]["operations"][0]
    document["setups"][0]["operations"] = [first | {"name": f"op {i}"} for i in range(16)]
    plan = open_job(job_from_data(document), MODELS, MemoryStore())
    setup = plan.job.setups[0]
    keys = {plan.keys.path(setup, o) for o in setup.operations}
    assert len(keys) == 16
    assert 1 <= len(asked) <= 40


def test_models_of_the_examples_are_there():
    assert read_model(MODELS / "bearing_bracket.step").solids == 1
