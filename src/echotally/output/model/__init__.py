"""What is said of a model before it is played: values, firings, demand, findings, cards."""
