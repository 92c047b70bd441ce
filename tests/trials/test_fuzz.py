"""A short run of the fuzzer in this folder."""

from __future__ import annotations

import fuzz
import pytest


@pytest.mark.parametrize("seed", range(2))
def test_mutated_input_is_read(seed: int) -> None:
    found = list(fuzz.run(2_500, seed))
    assert len(found) == 6 and not [f"{name}: {fault}" for name, _, _, fault in found if fault]
