"""The core chained over whole clips: decode, compute and encode overlap; progress and stop are passed in."""
