"""A base for values of a document."""

from pydantic import BaseModel, ConfigDict


class Strict(BaseModel):
    """Unknown names are refused, values are frozen."""

    model_config = ConfigDict(extra="forbid", frozen=True, populate_by_name=True)
