"""Model and plan to verdict: simulate, meter, bill, compare with the targets."""
