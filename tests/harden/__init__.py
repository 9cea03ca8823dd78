"""What the application is put through on purpose: kills at random moments, mutated files. `./run harden` is the long way."""
