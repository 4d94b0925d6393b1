"""Rate cards: plans, meters, rounding, tiers, allowances, and the money they make of a month."""
