"""Eight bytes at a time, for compiled loops over payloads and text. Only compiled code imports this."""

from __future__ import annotations

from typing import Any

import numpy as np
from llvmlite import ir
from numba import njit, types
from numba.extending import intrinsic

LOW_BITS = np.uint64(0x0101010101010101)
LOW_SEVEN = np.uint64(0x7F7F7F7F7F7F7F7F)


@intrinsic
def load_word(typing: Any, data: Any, at: Any) -> Any:
    """``data[at : at + 8]`` of a byte array as one little-endian integer, wherever it lies; not checked."""
    signature = types.uint64(data, types.int64)

    def generate(context: Any, builder: Any, signature: Any, given: Any) -> Any:
        array = context.make_array(signature.args[0])(context, builder, given[0])
        place = builder.gep(array.data, [given[1]])
        word = builder.bitcast(place, ir.IntType(64).as_pointer())
        loaded = builder.load(word)
        # Payloads begin anywhere.
        loaded.align = 1
        return loaded

    return signature, generate


@intrinsic
def store_word(typing: Any, data: Any, at: Any, word: Any) -> Any:
    """Write eight bytes at ``data[at : at + 8]``, wherever it lies; not checked."""
    signature = types.void(data, types.int64, types.uint64)

    def generate(context: Any, builder: Any, signature: Any, given: Any) -> Any:
        array = context.make_array(signature.args[0])(context, builder, given[0])
        place = builder.bitcast(builder.gep(array.data, [given[1]]), ir.IntType(64).as_pointer())
        builder.store(given[2], place).align = 1
        return context.get_dummy_value()

    return signature, generate


@njit(cache=True, nogil=True, inline="always")
def zero_bytes(word: Any) -> Any:
    """The top bit of each byte of a word that is 0, and no other bit.

    Exact, unlike the shorter form with a borrow. Source: H. S. Warren, Hacker's Delight, 6-1.
    """
    return ~(((word & LOW_SEVEN) + LOW_SEVEN) | word | LOW_SEVEN)


@njit(cache=True, nogil=True, inline="always")
def tail_word(data: Any, at: Any, end: Any) -> Any:
    """The bytes from ``at`` to ``end``, fewer than 8, as a word filled with 0."""
    word = np.uint64(0)
    for k in range(end - at):
        word |= np.uint64(data[at + k]) << np.uint64(8 * k)
    return word


@intrinsic
def leading_zeros(typing: Any, word: Any) -> Any:
    """How many of the 64 bits of an unsigned integer are 0 before the first that is 1."""
    signature = types.int64(types.uint64)

    def generate(context: Any, builder: Any, signature: Any, given: Any) -> Any:
        return builder.ctlz(given[0], ir.Constant(ir.IntType(1), 0))

    return signature, generate


@intrinsic
def trailing_zeros(typing: Any, word: Any) -> Any:
    """How many of the 64 bits of an unsigned integer are 0 after the last that is 1."""
    signature = types.int64(types.uint64)

    def generate(context: Any, builder: Any, signature: Any, given: Any) -> Any:
        return builder.cttz(given[0], ir.Constant(ir.IntType(1), 0))

    return signature, generate


@intrinsic
def byte_swapped(typing: Any, word: Any) -> Any:
    """The eight bytes of an unsigned integer the other way round."""
    signature = types.uint64(types.uint64)

    def generate(context: Any, builder: Any, signature: Any, given: Any) -> Any:
        return builder.bswap(given[0])

    return signature, generate
