"""Keen Horizon: steady, straight pictures, with the price of every correction shown."""
