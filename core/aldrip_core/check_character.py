"""Codes that catch a misread label: ISO 7064, MOD 37,36."""

MISREAD = "OI"  # letters that are read as 0 and 1
ALPHABET = "0123456789ABCDEFGHIJKLMNOPQRSTUVWXYZ"


def _run(body: str) -> int:
    product = 36
    for letter in body:
        total = (product + ALPHABET.index(letter)) % 36 or 36
        product = total * 2 % 37
    return product


def check_character(body: str) -> str:
    """The character that completes `body` (digits and capitals; anything else is skipped).

    Source: ISO/IEC 7064:2003, hybrid system MOD 37,36 (from memory).

    >>> check_character("A12425GABC1234002")
    'M'
    """
    letters = [letter for letter in body.upper() if letter in ALPHABET]
    return ALPHABET[(37 - _run("".join(letters))) % 36]


def with_check(body: str) -> str:
    """`body` followed by its check character."""
    return body + check_character(body)


def is_valid(code: str) -> bool:
    """Whether a code's last character fits the rest.

    >>> is_valid(with_check("27-041")), is_valid("27-14" + with_check("27-041")[-1])
    (True, False)
    """
    letters = "".join(letter for letter in code.upper() if letter in ALPHABET)
    return len(letters) > 1 and check_character(letters[:-1]) == letters[-1]
