"""Where chains of single steps (redirects, canonicals) end."""

from __future__ import annotations

from collections.abc import Mapping
from typing import TYPE_CHECKING

if TYPE_CHECKING:
    import numpy as np
    import numpy.typing as npt


def follow(
    address: npt.NDArray[np.int64], target: npt.NDArray[np.int64], size: int
) -> tuple[npt.NDArray[np.int64], npt.NDArray[np.bool_]]:
    """Where chains of single steps end, by doubling the stride; chains that never end are loops."""
    import numpy as np

    onward = np.arange(size, dtype=np.int64)
    onward[address] = target
    leads = np.zeros(size, dtype=bool)
    leads[address] = True
    strides = max(1, int(np.ceil(np.log2(len(address) + 2))))
    for _ in range(strides):
        onward = onward[onward]
    return onward[address], leads[onward[address]]


def follow_few(steps: Mapping[int, int]) -> dict[int, int | None]:
    """The same, one by one: where the chain from each address ends, None where it never does."""
    ends: dict[int, int | None] = {}
    for address in steps:
        seen = {address}
        end = steps[address]
        while end in steps and end not in seen:
            seen.add(end)
            end = steps[end]
        ends[address] = None if end in seen else end
    return ends
