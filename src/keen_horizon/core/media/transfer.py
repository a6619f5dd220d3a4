"""Transfer characteristics: from coded values to linear light (ITU-T H.273, table 3)."""

from __future__ import annotations

from dataclasses import dataclass

import numpy as np
from numpy.typing import NDArray

Values = NDArray[np.float32]

TRANSFER_NAMES = {
    1: "BT.709", 4: "gamma 2.2", 5: "gamma 2.8", 6: "BT.601", 8: "linear", 13: "sRGB", 14: "BT.2020, 10 bits",
    15: "BT.2020, 12 bits", 16: "PQ (SMPTE ST 2084)", 18: "HLG (ARIB STD-B67)",
}  # fmt: skip
PRIMARY_NAMES = {
    1: "BT.709", 5: "BT.601, 625 lines", 6: "BT.601, 525 lines", 9: "BT.2020", 11: "P3, theatre white", 12: "P3, D65"
}  # fmt: skip


PQ_M1, PQ_M2 = 2610 / 16384, 2523 / 4096 * 128
PQ_C1, PQ_C2, PQ_C3 = 3424 / 4096, 2413 / 4096 * 32, 2392 / 4096 * 32
HLG_A, HLG_B, HLG_C = 0.17883277, 0.28466892, 0.55991073


def linear(values: Values, transfer: int) -> Values:
    """Linear light of coded R, G or B values (0 ... 1), 1 being the transfer's own white; PQ in units of 10,000 cd/m2.

    What tells no transfer is taken as BT.709's.
    """
    v = np.clip(values, 0, 1)
    if transfer == 8:
        return v
    if transfer == 13:
        return np.where(v <= 0.04045, v / 12.92, ((v + 0.055) / 1.055) ** 2.4).astype(np.float32)
    if transfer in (4, 5):
        return np.asarray(v ** (2.2 if transfer == 4 else 2.8), np.float32)
    if transfer == 16:
        return _pq(v)
    if transfer == 18:
        return _hlg(v)
    return np.where(v < 0.081, v / 4.5, ((v + 0.099) / 1.099) ** (1 / 0.45)).astype(np.float32)


def coded_srgb(light: Values) -> Values:
    """sRGB's coded values of linear light, both 0 ... 1 (IEC 61966-2-1)."""
    v = np.clip(light, 0, 1)
    return np.where(v <= 0.0031308, 12.92 * v, 1.055 * v ** (1 / 2.4) - 0.055).astype(np.float32)


def _pq(v: Values) -> Values:
    root = v ** (1 / PQ_M2)
    return np.asarray((np.maximum(root - PQ_C1, 0) / (PQ_C2 - PQ_C3 * root)) ** (1 / PQ_M1), np.float32)


def _hlg(v: Values) -> Values:
    return np.where(v <= 0.5, v**2 / 3, (np.exp((v - HLG_C) / HLG_A) + HLG_B) / 12).astype(np.float32)


def coded(light: Values, transfer: int) -> Values:
    """The coded values (0 ... 1) of linear light: undoes `linear`."""
    v = np.maximum(light, 0)
    if transfer == 8:
        return np.asarray(v, np.float32)
    if transfer == 13:
        return coded_srgb(v)
    if transfer in (4, 5):
        return np.asarray(v ** (1 / (2.2 if transfer == 4 else 2.8)), np.float32)
    if transfer == 16:
        root = v**PQ_M1
        return np.asarray(((PQ_C1 + PQ_C2 * root) / (1 + PQ_C3 * root)) ** PQ_M2, np.float32)
    if transfer == 18:
        bright = HLG_A * np.log(np.maximum(12 * v - HLG_B, 1e-6)) + HLG_C
        return np.where(v <= 1 / 12, np.sqrt(3 * v), bright).astype(np.float32)
    return np.where(v < 0.018, 4.5 * v, 1.099 * np.maximum(v, 1e-9) ** 0.45 - 0.099).astype(np.float32)


@dataclass(frozen=True)
class PowerLaw:
    """A transfer whose coded value plus `offset` goes as light to the power `exponent`, from the coded value `toe` on.

    Below it, coded values go about as light does. So light that is multiplied by g turns a coded value v into
    (v + offset) g^exponent - offset; and what is so for R, G and B is so for luma, and for colour differences without
    the offset.
    """

    offset: float
    exponent: float
    toe: float


_BT709 = PowerLaw(0.099, 0.45, 0.081)
_POWER_LAWS = {
    4: PowerLaw(0.0, 1 / 2.2, 0.0),
    5: PowerLaw(0.0, 1 / 2.8, 0.0),
    8: PowerLaw(0.0, 1.0, 0.0),
    13: PowerLaw(0.055, 1 / 2.4, 0.04045),
}


def power_law(transfer: int) -> PowerLaw | None:
    """The power law of a transfer; None for PQ and HLG, which have none."""
    return None if transfer in (16, 18) else _POWER_LAWS.get(transfer, _BT709)
