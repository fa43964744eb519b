"""What looks into a run, or at what it would do: previews, traces, comparisons of rules, drift."""
