"""Stand-in receivers and the comparison; a receiver's library is imported when a package of its format arrives."""
