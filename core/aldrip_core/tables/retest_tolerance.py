"""Largest difference tolerated between two germination tests of 400 seeds, by the mean of both.

Source: ISTA Rules, tolerances between two tests, two-way at 2.5 % (after Miles 1963); from memory.
"""

SOURCE = "ISTA Rules, tolerances between two germination tests (after Miles 1963), from memory"
SEEDS = 400

# (lowest mean, highest mean in the upper half, tolerated difference), all in whole per cent; the lower half mirrors it.
ROWS = (
    (98, 99, 2),
    (95, 97, 3),
    (91, 94, 4),
    (85, 90, 5),
    (77, 84, 6),
    (60, 76, 7),
    (51, 59, 8),
)
TOLERATED = {
    **{mean: most for low, high, most in ROWS for mean in range(low, high + 1)},
    **{101 - mean: most for low, high, most in ROWS for mean in range(low, high + 1)},
    # The table ends at 2 and 99 %; beyond it no larger difference than at its ends is let pass.
    0: 2,
    1: 2,
    100: 2,
}
