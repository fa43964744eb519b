"""What each command is called with: options, arguments and help, and nothing else."""
