"""Largest range tolerated among four replicates of 100 seeds, by mean germination.

Source: ISTA Rules, germination tolerance table, two-sided 2.5 % (after Miles 1963); from memory.
"""

SOURCE = "ISTA Rules, germination tolerance table (after Miles 1963), from memory"

# (lowest mean, highest mean in the upper half, tolerated range), all in whole per cent; the lower half mirrors it.
ROWS = (
    (99, 99, 5),
    (98, 98, 6),
    (97, 97, 7),
    (96, 96, 8),
    (95, 95, 9),
    (93, 94, 10),
    (91, 92, 11),
    (89, 90, 12),
    (87, 88, 13),
    (84, 86, 14),
    (81, 83, 15),
    (78, 80, 16),
    (73, 77, 17),
    (67, 72, 18),
    (56, 66, 19),
    (51, 55, 20),
)

TOLERATED = {
    **{mean: most for low, high, most in ROWS for mean in range(low, high + 1)},
    # 99 mirrors 2, 98 mirrors 3, ... 51 mirrors 50.
    **{101 - mean: most for low, high, most in ROWS for mean in range(low, high + 1)},
}
