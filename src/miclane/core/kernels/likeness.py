"""How much a sound is like itself a little later."""

import numpy as np

from . import kernel, kernel_in_any_order
from .simd import fma, load8, plus, put, splat8, spread8


@kernel_in_any_order
def energy_of(x):
    """Sum of the squares of x (n,)."""
    total = 0.0
    for v in x:
        total += v * v
    return total


@kernel_in_any_order
def _product(x, y):
    """Sum of the products of x (n,) and y (n,)."""
    total = 0.0
    for i in range(len(x)):
        total += x[i] * y[i]
    return total


@kernel
def products_of(x, a, n, lag, products):
    """Products of n frames of x from a on and of those so many frames later, into `products`: one each lag from `lag`.

    Eight lags at a time; the last eight may begin among those before them.
    """
    count = len(products)
    if count < 8:
        for k in range(count):
            products[k] = _product(x[a : a + n], x[a + lag + k : a + lag + k + n])
        return
    for k in range(0, count, 8):
        first = min(k, count - 8)
        b = a + lag + first
        even, odd = splat8(0.0), splat8(0.0)
        third, fourth = splat8(0.0), splat8(0.0)
        for i in range(0, n - 3, 4):
            even = fma(spread8(x, a + i), load8(x, b + i), even)
            odd = fma(spread8(x, a + i + 1), load8(x, b + i + 1), odd)
            third = fma(spread8(x, a + i + 2), load8(x, b + i + 2), third)
            fourth = fma(spread8(x, a + i + 3), load8(x, b + i + 3), fourth)
        for i in range(n // 4 * 4, n):
            even = fma(spread8(x, a + i), load8(x, b + i), even)
        put(products, first, plus(plus(even, odd), plus(third, fourth)))


@kernel
def normal_differences(x, starts, window, out):
    """Cumulative mean normalised difference of x (n,) at each start (m,), of the lags from 0 on, into out (m, lags).

    YIN's (de Cheveigne & Kawahara, JASA 2002, eq. 8): of `window` frames from the start on and as many a lag later.
    """
    lags = out.shape[1]
    products = np.empty(lags)
    for k in range(len(starts)):
        a = starts[k]
        products_of(x, a, window, 0, products)
        own = energy = energy_of(x[a : a + window])
        total = 0.0
        out[k, 0] = 1.0
        for lag in range(1, lags):
            gone, come = x[a + lag - 1], x[a + lag - 1 + window]
            energy += come * come - gone * gone
            difference = max(own + energy - 2 * products[lag], 0.0)
            total += difference
            out[k, lag] = difference * lag / max(total, 1e-20)


@kernel
def dips_of(normal, first, dips, off, depth):
    """Where each row of normal (m, lags) dips, of the lags from `first` on, into three of (m, lags - 2).

    By a parabola through three lags: how far from the middle one it lies, and how deep; where there is none, 2.
    """
    for k in range(len(normal)):
        for i in range(depth.shape[1]):
            before, here, after = normal[k, i], normal[k, i + 1], normal[k, i + 2]
            dips[k, i] = i + 1 >= first and here < before and here <= after
            off[k, i], depth[k, i] = 0.0, 2.0
            if dips[k, i]:
                bend = before - 2 * here + after
                off[k, i] = 0.5 * (before - after) / (bend if bend > 0 else 1.0)
                depth[k, i] = max(here - 0.25 * (before - after) * off[k, i], 0.0)


@kernel
def dip_of_the_period(depth, enough, octave_above, chosen):
    """Of each row of depth (m, lags): the first dip of `enough` depth, else the deepest, into chosen (m,).

    Where that is no deeper than `octave_above`, the one at twice its lag where that is less than half as high.
    """
    for k in range(len(depth)):
        lag = 0
        for i in range(depth.shape[1]):
            if depth[k, i] < enough:
                lag = i
                break
            if depth[k, i] < depth[k, lag]:
                lag = i
        if depth[k, lag] > octave_above:
            double, best = 2 * (lag + 1) - 1, -1
            for i in range(double - 2, min(double + 3, depth.shape[1])):
                if best < 0 or depth[k, i] < depth[k, best]:
                    best = i
            if best >= 0 and depth[k, best] < 0.5 * depth[k, lag]:
                lag = best
        chosen[k] = lag
