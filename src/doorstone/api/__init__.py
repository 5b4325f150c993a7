"""The shapes of the JSON that the service and the client share: a request and a response type for each thing."""
