"""Failures of operations are kept as paths are, with the place of the operation as it is now."""

import pytest

from fenrik.core.errors import ComputeError, DocumentError, InputError, NotFound
from fenrik.core.job.paths.failing import keep_failure, kept_failure
from fenrik.core.job.workspace.artefacts import MemoryStore

HERE, LATER = "setups[0].operations[3]", "setups[1].operations[0]"


def kept(error):
    store = MemoryStore()
    keep_failure(store, "track-1", error, HERE)
    return store


@pytest.mark.parametrize("kind", [ComputeError, DocumentError])
def test_a_failure_comes_back_in_its_words_at_the_operations_new_place(kind):
    error = kind("The tool does not fit.", remedy="Use a smaller one.", where=f"{HERE}.parameters.stepover")
    again = kept_failure(kept(error), "track-1", LATER)
    assert type(again) is kind
    assert (again.what, again.remedy) == (error.what, error.remedy)
    assert again.where == f"{LATER}.parameters.stepover"


def test_an_offer_to_mend_it_is_kept_too():
    error = ComputeError("Too deep.", remedy="Go less deep.", where=HERE, offer={"parameters": {"depth": 3}})
    assert kept_failure(kept(error), "track-1", HERE).offer == {"parameters": {"depth": 3}}


@pytest.mark.parametrize(
    "error",
    [
        ComputeError("The stock is gone.", where="setups[0].stock"),  # of another thing
        ComputeError("No place.", where=""),
        ComputeError("One of ten.", where=f"{HERE}0"),  # operation 30, not 3
        NotFound("It is not there.", where=HERE),  # may be there tomorrow
        InputError("Unreadable.", where=HERE),
    ],
)
def test_what_does_not_follow_from_the_operation_alone_is_tried_again(error):
    store = kept(error)
    assert store.blobs == {}
    assert kept_failure(store, "track-1", HERE) is None


def test_a_failure_belongs_to_its_key():
    store = kept(ComputeError("No.", where=HERE))
    assert kept_failure(store, "track-2", HERE) is None
