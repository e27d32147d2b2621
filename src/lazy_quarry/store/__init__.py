"""The journal and its tables."""

from lazy_quarry.store.journal import EndedFilter, Journal, SumRow

__all__ = ["EndedFilter", "Journal", "SumRow"]
