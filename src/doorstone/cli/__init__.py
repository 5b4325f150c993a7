"""The command line: nouns, then verbs, in the job's order. It talks to a service through the client library."""
