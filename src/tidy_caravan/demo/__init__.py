"""Pellwick Ferry Landing: the made-up terminal at which demo data and examples play."""
