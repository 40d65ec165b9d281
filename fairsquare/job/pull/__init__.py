"""The pulls of a job: the board, what is proposed, learned and spent, and practice."""
