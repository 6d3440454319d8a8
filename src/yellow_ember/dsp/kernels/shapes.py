"""Saturation shapes at the raised rate: one way for all of them to keep aliasing down.

Every pair of neighbouring samples is joined by a polynomial through six of them and cut into
sub-steps.  Smooth shapes are read at the sub-steps, from a table; where the wave passes
through much of one in a single sub-step, and for all shapes with corners or jumps, the shape's
exact mean over the sub-step is taken instead, by its antiderivative (Parker, Zavalishin and Le
Bivic, DAFx 2016; Bilbao, Esqueda, Parker and Valimaki, IEEE SPL 2017).  The sub-steps are
weighted by a cubic B-spline four samples wide, whose fourfold zeros lie on the multiples of
the raised rate.  Sub-steps of one number lie side by side, so that loops over samples vectorise.
"""

from __future__ import annotations

import math

import numpy as np

from yellow_ember.dsp.arrays import Samples
from yellow_ember.dsp.kernels import kernel

TABLE, HARD, FOLD, WRAP, RECTIFY, RING, MAGNETIC = range(7)
SMALL_STEP = 1e-5
BEND_DELAY = 4
MOST_STEPS = 128
"""Sub-steps in a frame at the base rate."""
CHUNK = 64
"""Base-rate frames worked on at once, so that all sub-steps of them stay in the nearest caches."""
_TWO_PI, _OVER_TWO_PI = 2.0 * math.pi, 0.5 / math.pi


@kernel
def cosine(x: float) -> float:
    """cos x within 1e-12, as a polynomial of the half angle that vectorises."""
    r = x - _TWO_PI * np.floor(x * _OVER_TWO_PI + 0.5)
    q = 0.25 * r * r
    half = 1.0 + q * (-1.0 / 2 + q * (1.0 / 24 + q * (-1.0 / 720 + q * (1.0 / 40320 + q * (
        -1.0 / 3628800 + q * (1.0 / 479001600 + q * (-1.0 / 87178291200 + q / 20922789888000.0)))))))
    return float(2.0 * half * half - 1.0)


@kernel
def corner_shape(kind: int, x: float) -> float:
    """The shape itself, limit 1."""
    if kind == HARD:
        return min(max(x, -1.0), 1.0)
    if kind == FOLD:
        y = x + 1.0 - 4.0 * np.floor((x + 1.0) * 0.25)
        return float(1.0 - abs(y - 2.0))
    if kind == RECTIFY:
        return abs(x)
    if kind == RING:
        return cosine(x - 0.5 * math.pi)
    return float(x - 2.0 * np.floor((x + 1.0) * 0.5))


@kernel
def corner_integral(kind: int, x: float) -> float:
    """An antiderivative of `corner_shape`, periodic where the shape is."""
    if kind == HARD:
        a = abs(x)
        return 0.5 * x * x if a < 1.0 else a - 0.5
    if kind == FOLD:
        y = x + 1.0 - 4.0 * np.floor((x + 1.0) * 0.25)
        near = y - 1.0 if y < 2.0 else 3.0 - y
        part = 0.5 * near * near - 0.5
        return float(part if y < 2.0 else -part)
    if kind == RECTIFY:
        return 0.5 * x * abs(x)
    y = x - 2.0 * np.floor((x + 1.0) * 0.5)
    return float(0.5 * y * y - 1.0 / 6.0)


@kernel
def corner_second(kind: int, x: float) -> float:
    """An antiderivative of `corner_integral`."""
    if kind == HARD:
        a = abs(x)
        inner, outer = x * x * x / 6.0, 0.5 * a * (a - 1.0) + 1.0 / 6.0
        return inner if a < 1.0 else (outer if x > 0.0 else -outer)
    if kind == FOLD:
        y = x + 1.0 - 4.0 * np.floor((x + 1.0) * 0.25)
        near = y - 1.0 if y < 2.0 else 3.0 - y
        return float(near * near * near / 6.0 - 0.5 * near)
    if kind == RECTIFY:
        return abs(x * x * x) / 6.0
    y = x - 2.0 * np.floor((x + 1.0) * 0.5)
    return float(y * (y * y - 1.0) / 6.0)


@kernel
def corner_third(kind: int, x: float) -> float:
    """An antiderivative of `corner_second`, for the two shapes that come round again."""
    if kind == FOLD:
        y = x + 1.0 - 4.0 * np.floor((x + 1.0) * 0.25)
        near = y - 1.0 if y < 2.0 else 3.0 - y
        part = near * near * (near * near / 24.0 - 0.25) + 5.0 / 24.0
        return float(part if y < 2.0 else -part)
    y = x - 2.0 * np.floor((x + 1.0) * 0.5)
    return float(y * y * (y * y / 24.0 - 1.0 / 12.0))


@kernel
def rounded_shape(kind: int, x: float, knee: float) -> float:
    """The shape averaged over 2 knee of its input."""
    if knee == 0.0:
        return corner_shape(kind, x)
    return (corner_integral(kind, x + knee) - corner_integral(kind, x - knee)) / (2.0 * knee)


@kernel
def read_curve(curve: Samples, places: Samples, count: int, result: Samples) -> None:
    """A tabulated shape at every place: cubic coefficients over u = x / (1 + |x|) from -1 to 1 (`Shape.table`).

    `places` is left as the table's; the division vectorises only in a loop of its own.
    """
    cells = curve.shape[0] // 2
    last = cells - 1e-9
    for j in range(np.uintp(count)):
        x = places[j]
        u = (x / (1.0 + abs(x)) + 1.0) * 0.5 * cells
        places[j] = u if u < last else last
    for j in range(np.uintp(count)):
        u = places[j]
        whole = int(u)
        cell, t = np.uintp(whole), u - whole
        result[j] = curve[cell, 0] + t * (curve[cell, 1] + t * (curve[cell, 2] + t * curve[cell, 3]))


PAST = 5
"""Samples that the polynomial looks back."""


@kernel
def place_steps(samples: Samples, n: int, steps: int, offset: float, past: Samples, line: Samples,
                places: Samples) -> None:
    """Where the wave is at every sub-step: places[k n + i] is sub-step k of sample i; past (PAST,)."""
    for i in range(PAST):
        line[i] = past[i]
    for i in range(n):
        line[PAST + i] = samples[i]
    a, b, c, d, e, f = line[0:n], line[1:n + 1], line[2:n + 2], line[3:n + 3], line[4:n + 4], line[5:n + 5]
    # The last sub-step ends at a sample itself.
    here = places[(steps - 1) * n:steps * n]
    for i in range(n):
        here[i] = offset + d[i]
    for k in range(steps - 1):
        t = (k + 1.0) / steps
        here = places[k * n:(k + 1) * n]
        # Lagrange's polynomial through samples at -2 to 3, as weights of each.
        lower, upper = (t + 2.0) * (t + 1.0), (t - 2.0) * (t - 3.0)
        wa, wb = -(t + 1.0) * t * (t - 1.0) * upper / 120.0, (t + 2.0) * t * (t - 1.0) * upper / 24.0
        wc, wd = -lower * (t - 1.0) * upper / 12.0, lower * t * upper / 12.0
        we, wf = -lower * t * (t - 1.0) * (t - 3.0) / 24.0, lower * t * (t - 1.0) * (t - 2.0) / 120.0
        for i in range(n):
            here[i] = offset + wa * a[i] + wb * b[i] + wc * c[i] + wd * d[i] + we * e[i] + wf * f[i]
    for i in range(PAST):
        past[i] = line[n + i]


WIDE, BLENDED = 4.0, 8.0
"""Cells of its table that a smooth shape may pass in a sub-step before its mean counts, and where it counts wholly."""


@kernel
def read_primitive(curve: Samples, places: Samples, count: int, areas: Samples) -> None:
    """The shape's antiderivative at every place in its table, whose second half holds it over 1 + |x|."""
    cells = curve.shape[0] // 2
    scale = 2.0 / cells
    for j in range(np.uintp(count)):
        place = places[j]
        whole = int(place)
        cell, t = np.uintp(cells + whole), place - whole
        areas[j] = curve[cell, 0] + t * (curve[cell, 1] + t * (curve[cell, 2] + t * curve[cell, 3]))
    for j in range(np.uintp(count)):
        areas[j] /= 1.0 - abs(places[j] * scale - 1.0)


@kernel
def wide_ones(before: Samples, here: Samples) -> int:
    """How many sub-steps are wide; counted, since a loop that counts vectorises and one that looks for the most not."""
    count = 0
    for i in range(here.shape[0]):
        count += int(abs(here[i] - before[i]) > WIDE)
    return count


@kernel
def correct_wide(cells: int, before: Samples, here: Samples, area_before: Samples, area_here: Samples,
                 values: Samples) -> None:
    """Bring values half-way between a sub-step's ends to its mean, as far as it is wide."""
    scale = 2.0 / cells
    for i in range(np.uintp(here.shape[0])):
        u0, u1 = before[i] * scale - 1.0, here[i] * scale - 1.0
        passed = abs(here[i] - before[i])
        step = u1 / (1.0 - abs(u1)) - u0 / (1.0 - abs(u0))
        mean = (area_here[i] - area_before[i]) / (step if passed > WIDE else 1.0)
        share = min(max((passed - WIDE) / (BLENDED - WIDE), 0.0), 1.0)
        values[i] += share * (mean - values[i])


@kernel
def correct_wide_steps(curve: Samples, places: Samples, n: int, steps: int, last: Samples, areas: Samples,
                       values: Samples) -> None:
    """Take means over wide sub-steps in place of the values half-way between their ends.

    Parameters
    ----------
    places : Samples
        In the table, as `read_curve` leaves them.
    last : Samples
        (2,), the last place before, and room for the antiderivative there.
    areas : Samples
        Scratch of n steps.
    """
    count, end = n * steps, (steps - 1) * n
    wide = wide_ones(last[0:1], places[0:1]) + wide_ones(places[end:count - 1], places[1:n])
    wide += wide_ones(places[0:end], places[n:count])
    if wide == 0:
        return
    cells = curve.shape[0] // 2
    read_primitive(curve, places, count, areas)
    read_primitive(curve, last, 1, last[1:2])
    correct_wide(cells, last[0:1], places[0:1], last[1:2], areas[0:1], values[0:1])
    correct_wide(cells, places[end:count - 1], places[1:n], areas[end:count - 1], areas[1:n], values[1:n])
    correct_wide(cells, places[0:end], places[n:count], areas[0:end], areas[n:count], values[n:count])


@kernel
def integrate(kind: int, knee: float, places: Samples, count: int, values: Samples) -> None:
    """`corner_integral` of the rounded shape at every place."""
    if knee > 0.0:
        scale = 0.5 / knee
        for j in range(count):
            values[j] = scale * (corner_second(kind, places[j] + knee) - corner_second(kind, places[j] - knee))
    elif kind == HARD:
        for j in range(count):
            values[j] = corner_integral(HARD, places[j])
    elif kind == FOLD:
        for j in range(count):
            values[j] = corner_integral(FOLD, places[j])
    elif kind == RECTIFY:
        for j in range(count):
            values[j] = corner_integral(RECTIFY, places[j])
    else:
        for j in range(count):
            values[j] = corner_integral(WRAP, places[j])


@kernel
def integrate_twice(kind: int, knee: float, places: Samples, count: int, values: Samples) -> None:
    """`corner_second` of the rounded shape at every place, for the two that come round again."""
    if knee > 0.0:
        scale = 0.5 / knee
        for j in range(count):
            values[j] = scale * (corner_third(kind, places[j] + knee) - corner_third(kind, places[j] - knee))
    elif kind == FOLD:
        for j in range(count):
            values[j] = corner_second(FOLD, places[j])
    else:
        for j in range(count):
            values[j] = corner_second(WRAP, places[j])


@kernel
def average_steps(kind: int, knee: float, line: Samples, places: Samples, values: Samples, seconds: Samples, n: int,
                  steps: int, last: Samples, bent: Samples) -> None:
    """The shape's mean over every sub-step; last (3,), the last place and its first and second integrals.

    Where the shape comes round again, `values` becomes the mean's moment: weighted from 0 to 1 over the sub-step.
    """
    integrate(kind, knee, places, n * steps, values)
    end = (steps - 1) * n
    place, integral, second = places[n * steps - 1], values[n * steps - 1], 0.0
    means(kind, knee, last[0:1], places[0:1], last[1:2], values[0:1], bent[0:1])
    means(kind, knee, places[end:end + n - 1], places[1:n], values[end:end + n - 1], values[1:n], bent[1:n])
    for k in range(1, steps):
        here, before = k * n, (k - 1) * n
        means(kind, knee, places[before:here], places[here:here + n], values[before:here], values[here:here + n],
              bent[here:here + n])
    if comes_round(kind):
        integrate_twice(kind, knee, places, n * steps, seconds)
        second = seconds[n * steps - 1]
        moments(last[0:1], places[0:1], last[2:3], seconds[0:1], line, 0, steps, bent[0:1], values[0:1])
        moments(places[end:end + n - 1], places[1:n], seconds[end:end + n - 1], seconds[1:n], line[1:], 0, steps,
                bent[1:n], values[1:n])
        for k in range(1, steps):
            here, before = k * n, (k - 1) * n
            moments(places[before:here], places[here:here + n], seconds[before:here], seconds[here:here + n], line, k,
                    steps, bent[here:here + n], values[here:here + n])
    last[0], last[1], last[2] = place, integral, second


@kernel
def comes_round(kind: int) -> bool:
    """True for shapes that a loud wave goes through many times."""
    return kind in (FOLD, WRAP)


@kernel
def means(kind: int, knee: float, x0: Samples, x1: Samples, f0: Samples, f1: Samples, y: Samples) -> None:
    """The shape's mean from x0 to x1 by its integral there; where they all but meet, its value between."""
    for i in range(y.size):
        step = x1[i] - x0[i]
        y[i] = (f1[i] - f0[i]) / (step if step != 0.0 else 1.0)
    for i in range(y.size):
        if abs(x1[i] - x0[i]) <= SMALL_STEP:
            y[i] = rounded_shape(kind, 0.5 * (x0[i] + x1[i]), knee)


@kernel
def moments(x0: Samples, x1: Samples, g0: Samples, g1: Samples, line: Samples, k: int, steps: int, y: Samples,
            f1: Samples) -> None:
    """The shape's moment from x0 to x1 in place of its integral at x1; the mean y follows how the wave curves between.

    A wave that bows by b over the sub-step moves the mean by -4 b / (x1 - x0) times (mean - 2 moment), to first order.

    Parameters
    ----------
    g0, g1 : Samples
        The second integral there.
    """
    t, scale = (k + 0.5) / steps, 0.5 / (steps * steps)
    wa, wb, wc, wd = scale * (1.0 - t), scale * (3.0 * t - 2.0), scale * (1.0 - 3.0 * t), scale * t
    a, b, c, d = line[1:], line[2:], line[3:], line[4:]
    for i in range(np.uintp(y.size)):
        step = x1[i] - x0[i]
        passes = abs(step) > SMALL_STEP
        far = 1.0 / (step if passes else 1.0)
        moment = far * (f1[i] - far * (g1[i] - g0[i]))
        moment = moment if passes else 0.5 * y[i]
        curve = far * (wa * a[i] + wb * b[i] + wc * c[i] + wd * d[i])
        f1[i] = moment
        y[i] += min(max(curve, -0.5), 0.5) * (y[i] - 2.0 * moment)


A, ALPHA, PINNED, FREE = 0.2, 0.001, 0.5, 0.6
"""The magnetic shape's core: Jiles-Atherton's a, alpha, k and c with Ms = 1; unit slope at rest."""


_FINEST = 0.04
"""How far, over A plus itself, the field moves in a piece of a sub-step."""


@kernel
def magnetise(h: float, dh: float, m: float) -> float:
    """The magnetisation after a field h has moved by dh: one midpoint step.

    Jiles and Atherton (1986) with a quotient of polynomials for the anhysteretic curve, as in
    `kernels.electronics`.
    """
    x = (h + 0.5 * dh + ALPHA * m) / A
    a = abs(x)
    part = 1.0 / (22.5 + a * (10.5 + a * (4.5 + a)))
    rising = a * (7.5 + a * (3.5 + a)) * part
    slope = part * ((7.5 + a * (7.0 + 3.0 * a)) - rising * (10.5 + a * (9.0 + 3.0 * a)))
    gap = (rising if x >= 0.0 else -rising) - m
    gap = max(gap if dh >= 0.0 else -gap, 0.0)
    free = FREE / A * slope
    m += dh * ((1.0 - FREE) * gap / max(PINNED - ALPHA * gap, 1e-6) + free) / (1.0 - ALPHA * free)
    # A field that leaps from one end to the other is no reason to magnetise beyond what there is.
    return min(max(m, -1.0), 1.0)


@kernel
def stretched(h: float) -> float:
    """A scale of the field on which the core changes evenly."""
    return math.copysign(math.log(1.0 + abs(h) / A), h)


@kernel
def follow_core(places: Samples, n: int, steps: int, state: Samples, means: Samples) -> None:
    """Mean magnetisation of a core over every sub-step of the field; state (3,), field, magnetisation, last step.

    It depends on where the field passed and not on how fast, so wide sub-steps are cut as finely as the core needs,
    and a peak between two of them, by the parabola through three, is passed too.
    """
    h, m, came = state[0], state[1], state[2]
    for i in range(n):
        for k in range(steps):
            at = k * n + i
            end = places[at]
            total = end - h
            if total * came < 0.0:
                peak = (came + total) ** 2 / (8.0 * (came - total))
                m = magnetise(h, peak, m)
                h += peak
            came, total = total, end - h
            if abs(total) <= _FINEST * (A + min(abs(h), abs(end))):
                before = m
                m = magnetise(h, total, m)
                means[at] = 0.5 * (before + m)
            else:
                first, last = stretched(h), stretched(end)
                pieces = int(abs(last - first) / _FINEST) + 1
                start, area = h, 0.0
                for piece in range(pieces):
                    place = first + (last - first) * (piece + 1) / pieces
                    to = math.copysign(A * (math.exp(abs(place)) - 1.0), place) if piece + 1 < pieces else end
                    before = m
                    m = magnetise(start, to - start, m)
                    area += 0.5 * (before + m) * (to - start)
                    start = to
                means[at] = area / total
            h = end
    state[0], state[1], state[2] = h, m, came


@kernel
def spline(t: float) -> float:
    """The cubic B-spline about zero."""
    a = abs(t)
    if a >= 2.0:
        return 0.0
    return (2.0 - a) ** 3 / 6.0 if a > 1.0 else 2.0 / 3.0 + a * a * (0.5 * a - 1.0)


@kernel
def spline_below(t: float) -> float:
    """How much of it lies below t."""
    a = abs(t)
    beyond = max(2.0 - a, 0.0) ** 4 / 24.0
    above = beyond if a >= 1.0 else 0.5 - a * (2.0 / 3.0 - a * a * (1.0 / 3.0 - 0.125 * a))
    return above if t <= 0.0 else 1.0 - above


MEAN, FIRST, MOMENT = range(3)
"""What a sub-step brings: its mean, weighted by the spline's; or with its moment, by the spline as a straight line."""


@kernel
def weight_of(brings: int, interval: int, step: int, steps: int) -> float:
    """Weight of a sub-step in one of the four intervals about a sample.

    All sub-steps of an interval weigh as much together as the spline does there, however many they are, so that their
    number may change from one sample to the next.
    """
    end = interval - 2.0 + (step + 1.0) / steps
    start = end - 1.0 / steps
    moment = (spline(end) - spline(start)) / steps
    if brings == MOMENT:
        return moment
    whole = spline_below(end) - spline_below(start)
    return whole if brings == MEAN else whole - 0.5 * moment


@kernel
def halve(before: Samples, after: Samples, middles: Samples) -> None:
    """Half-way from each to the one beside it."""
    for i in range(middles.shape[0]):
        middles[i] = 0.5 * (before[i] + after[i])


@kernel
def between_values(values: Samples, n: int, steps: int, last: float, middles: Samples) -> None:
    """Half-way from each sub-step's value to the next, `last` before the first."""
    end = (steps - 1) * n
    middles[0] = 0.5 * (last + values[0])
    halve(values[end:end + n - 1], values[1:n], middles[1:n])
    halve(values[0:end], values[n:n + end], middles[n:n + end])


@kernel
def weigh_steps(bent: Samples, n: int, steps: int, brings: int, rest: float, samples: Samples,
                coming: Samples) -> None:
    """Add the B-spline's sum for every sample; coming (3,), what is added to the next samples already."""
    for k in range(steps):
        here = bent[k * n:(k + 1) * n]
        for interval in range(4):
            weight, late = weight_of(brings, interval, k, steps), 3 - interval
            ready = samples[late:n]
            for i in range(ready.shape[0]):
                ready[i] += weight * (here[i] - rest)
            for m in range(late):
                i = n + m - late
                if i >= 0:
                    coming[m] += weight * (here[i] - rest)


@kernel
def begin_samples(samples: Samples, n: int, coming: Samples) -> None:
    """Begin the sums of n samples with what came over for them; the rest of that waits on."""
    for i in range(n):
        samples[i] = 0.0
    for i in range(min(n, 3)):
        samples[i] = coming[i]
    for m in range(3):
        coming[m] = coming[m + n] if m + n < 3 else 0.0


BEND_STATES = PAST + 10
"""Samples before; the last value and place, or place and integrals; the core's; sums that come; begun."""
_LAST, _CORE, _COMING, _BEGUN = PAST, PAST + 3, PAST + 6, PAST + 9


@kernel
def begin(kind: int, curve: Samples, knee: float, offset: float, rest: float, state: Samples) -> None:
    """Put a shape where silence leaves it."""
    state[_BEGUN] = 1.0
    state[_CORE], state[_CORE + 1] = offset, rest
    if kind == RING:
        state[_LAST + 1] = rest
    elif kind == TABLE:
        u = (offset / (1.0 + abs(offset)) + 1.0) * 0.25 * curve.shape[0]
        state[_LAST], state[_LAST + 1] = rest, u
    else:
        state[_LAST] = offset
        integrate(kind, knee, state[_LAST:_LAST + 1], 1, state[_LAST + 1:_LAST + 2])
        if comes_round(kind):
            integrate_twice(kind, knee, state[_LAST:_LAST + 1], 1, state[_LAST + 2:_LAST + 3])


@kernel
def bend(samples: Samples, n: int, kind: int, curve: Samples, steps: int, knee: float, offset: float, rest: float,
         state: Samples, line: Samples, places: Samples, values: Samples, seconds: Samples, bent: Samples) -> None:
    """One channel at the raised rate, in place; delays by `BEND_DELAY` samples.

    Parameters
    ----------
    offset : float
        Added to the input.
    rest : float
        What the shape makes of the offset alone, taken off the output.
    knee : float
        Half the width over which corners are rounded.
    state : Samples
        (BEND_STATES,).
    line : Samples
        Scratch of n + PAST.
    places, values, seconds, bent : Samples
        Scratch of n steps.
    """
    if state[_BEGUN] == 0.0:
        begin(kind, curve, knee, offset, rest, state)
    place_steps(samples, n, steps, offset, state[0:PAST], line, places)
    coming = state[_COMING:_COMING + 3]
    begin_samples(samples, n, coming)
    if kind == TABLE:
        read_curve(curve, places, n * steps, bent)
        between_values(bent, n, steps, state[_LAST], seconds)
        correct_wide_steps(curve, places, n, steps, state[_LAST + 1:_LAST + 3], values, seconds)
        state[_LAST], state[_LAST + 1] = bent[n * steps - 1], places[n * steps - 1]
        weigh_steps(seconds, n, steps, MEAN, rest, samples, coming)
    elif kind == RING:
        for j in range(n * steps):
            bent[j] = cosine(places[j] - 0.5 * math.pi)
        between_values(bent, n, steps, state[_LAST + 1], seconds)
        state[_LAST + 1] = bent[n * steps - 1]
        weigh_steps(seconds, n, steps, MEAN, rest, samples, coming)
    elif kind == MAGNETIC:
        follow_core(places, n, steps, state[_CORE:_CORE + 3], bent)
        weigh_steps(bent, n, steps, MEAN, rest, samples, coming)
    else:
        average_steps(kind, knee, line, places, values, seconds, n, steps, state[_LAST:_LAST + 3], bent)
        if comes_round(kind):
            weigh_steps(bent, n, steps, FIRST, rest, samples, coming)
            weigh_steps(values, n, steps, MOMENT, 0.5 * rest, samples, coming)
        else:
            weigh_steps(bent, n, steps, MEAN, rest, samples, coming)


@kernel
def sag(block: Samples, share: float, rise: float, fall: float, drops: Samples, state: Samples) -> None:
    """Let a supply give way under load, in place: the drive grows as the limit will shrink.

    Parameters
    ----------
    share : float
        Of the supply that a steady full level takes.
    drops : Samples
        By how much the limit is under one, (channels, frames), for `after_sag`.
    state : Samples
        (channels,), the load.
    """
    for c in range(block.shape[0]):
        load = state[c]
        for i in range(block.shape[1]):
            x = min(abs(block[c, i]), 4.0)
            load += (rise if x > load else fall) * (x - load)
            held = 1.0 / (1.0 + share * load)
            block[c, i] /= held
            drops[c, i] = 1.0 - held
        state[c] = load if load > 1e-30 else 0.0


@kernel
def after_sag(block: Samples, drops: Samples) -> None:
    """Shrink the limit by what the supply has dropped, in place."""
    for c in range(block.shape[0]):
        for i in range(block.shape[1]):
            block[c, i] *= 1.0 - drops[c, i]
