"""How results are kept: keys by content, proofs whole or not at all, and what a replay says when something is
gone."""

import json

import numpy as np
import pytest
from hypothesis import given
from hypothesis import strategies as st

from fenrik.core.errors import NotFound
from fenrik.core.job.cutting.proofs import Proof, keep_proof, kept_moves, kept_proof, stock_key
from fenrik.core.job.cutting.replaying import replay_of
from fenrik.core.job.document.reading import job_from_data
from fenrik.core.job.opening import open_job
from fenrik.core.job.proving.proving import Prover
from fenrik.core.job.workspace import artefacts
from fenrik.core.job.workspace.artefacts import MemoryStore, code_version, key_of
from tests.conftest import MODELS, make_tool

PLAIN = st.recursive(
    st.none() | st.booleans() | st.integers() | st.floats(allow_nan=False) | st.text(max_size=8),
    lambda inner: st.lists(inner, max_size=3) | st.dictionaries(st.text(max_size=5), inner, max_size=3),
    max_leaves=8,
)


@given(PLAIN)
def test_the_same_inputs_have_the_same_key(inputs):
    again = json.loads(json.dumps(inputs))
    assert key_of("path", inputs) == key_of("path", again)


@given(st.dictionaries(st.text(max_size=5), st.integers(), min_size=2, max_size=6))
def test_the_order_in_which_a_mapping_was_written_does_not_matter(inputs):
    turned = dict(reversed(list(inputs.items())))
    assert key_of("path", inputs) == key_of("path", turned)


@given(PLAIN, PLAIN)
def test_other_inputs_have_another_key(a, b):
    same = json.dumps(a, sort_keys=True) == json.dumps(b, sort_keys=True)
    assert (key_of("path", a) == key_of("path", b)) == same


def test_kind_and_code_are_part_of_a_key(monkeypatch):
    before = key_of("path", [1])
    assert before.startswith("path-")
    assert key_of("track", [1])[6:] == before[5:]  # the hash is of the inputs
    monkeypatch.setattr(artefacts, "code_version", lambda: "another")
    assert key_of("path", [1]) != before


def test_the_version_of_the_code_is_a_hash_of_its_text():
    assert len(code_version()) == 16
    int(code_version(), 16)


def test_a_store_counts_what_was_computed():
    store = MemoryStore()
    assert (store.get("a"), store.has("a")) == (None, False)
    for key in ("a", "b", "a"):
        store.put(key, "path", key.encode())
    assert (store.get("a"), store.has("a"), store.computed) == (b"a", True, {"path": 3})


# proofs --------------------------------------------------------------------------------------


def facts(**more):
    replay = {"cuts": ["cut-1", "cut-2"], "raw": "raw-1", "is_box": True, "tools": {}}
    replay |= {"low": [0, 0, 0], "high": [1, 1, 1]}
    findings = [{"severity": "stop", "kind": "rapid"}, {"severity": "note", "kind": "order"}]
    return {
        "operations": [{}, {}],
        "findings": findings,
        "cell_mm": 0.5,
        "time_s": 12.5,
        "replay": replay,
        **more,
    }


def kept(**more):
    store = MemoryStore()
    moves = {"tip": np.arange(6.0).reshape(2, 3)}
    motion = {"pieces": np.zeros((1, 6), dtype=np.float32)}
    last = {"vertices": np.zeros((0, 3), dtype=np.float32)}
    proof = keep_proof(store, "proof-7", facts(**more), motion, moves, last)
    return store, proof


def test_a_kept_proof_reads_back_as_it_was():
    store, proof = kept()
    assert kept_proof(store, "proof-7") == proof == Proof("proof-7", facts())
    assert kept_moves(store, "proof-7")["tip"].tolist() == [[0.0, 1.0, 2.0], [3.0, 4.0, 5.0]]


def test_the_facts_are_written_last():
    store, _ = kept()
    assert list(store.blobs)[-1] == "proof-7"


def test_only_stops_forbid_a_program():
    _, proof = kept()
    assert [f["kind"] for f in proof.stops()] == ["rapid"]


@pytest.mark.parametrize(("is_box", "raw"), [(True, []), (False, ["raw-1"])])
def test_all_that_a_replay_needs_is_named(is_box, raw):
    _, proof = kept(replay={**facts()["replay"], "is_box": is_box})
    cuts = ["cut-1", "cut-1-stock", "cut-2", "cut-2-stock"]
    assert proof.results() == [
        "proof-7",
        "proof-7-motion",
        "proof-7-moves",
        stock_key("proof-7"),
        *raw,
        *cuts,
    ]


def test_what_is_not_there_is_none():
    assert kept_proof(MemoryStore(), "proof-7") is None
    assert kept_moves(MemoryStore(), "proof-7") is None


def test_a_replay_of_what_was_never_proved_says_what_to_do():
    with pytest.raises(NotFound) as refused:
        replay_of("proof-8", kept()[0])
    assert "not been proved" in refused.value.what
    assert refused.value.remedy == "Prove it."


def test_a_proof_without_its_moves_is_no_proof():
    store, _ = kept()
    del store.blobs["proof-7-moves"]
    with pytest.raises(NotFound, match="not been proved"):
        replay_of("proof-7", store)


def test_one_model_under_two_names_is_read_once_and_each_job_names_its_own(tmp_path):
    """What is kept under the content of a file takes the name of no other job's file into a program."""
    store, texts = MemoryStore(), []
    for name in ("plate.step", "customer_drawing_7.step"):
        (tmp_path / name).write_bytes((MODELS / "plate_a.step").read_bytes())
        document = {
            "fenrik": 1,
            "name": "Plate",
            "part": {"file": name},
            "tools": [make_tool("flat", 10, number=1).model_dump(mode="json")],
            "setups": [{"name": "Top", "operations": [{"name": "Face", "strategy": "facing", "tool": 1}]}],
            "proof": {"cell_mm": 2.0},
        }
        mine = Prover(open_job(job_from_data(document), tmp_path, store))
        texts.append(mine.prove(mine.job.effective_releases()[0]).facts["text"])
    assert store.computed["part"] == 1
    assert "(Part plate.step)" in texts[0] and "(Part customer_drawing_7.step)" in texts[1]
    assert "plate.step" not in texts[1]
