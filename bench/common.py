"""How figures are printed."""


def line(what: str, figure: str) -> None:
    """One figure."""
    print(f"{what:<58}{figure:>26}", flush=True)
