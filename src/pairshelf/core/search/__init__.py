"""Looking for layouts: every one that meets the needs, how it grows, what to buy, how drives are split by use."""
