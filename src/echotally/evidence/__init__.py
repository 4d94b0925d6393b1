"""Measured data in: run logs, request rates, load trials and bills, laid beside the model."""
