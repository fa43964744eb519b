"""What each command does: calls into the packages below, and views of what comes back."""
