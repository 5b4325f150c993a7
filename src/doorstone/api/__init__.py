"""The shapes of the JSON that the service and the client library share: one request and one response type a thing."""
