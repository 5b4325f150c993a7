"""People: who may sign in, in which role and where, their tokens, and who acts in whose place."""
