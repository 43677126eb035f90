"""What devices do with packets: forwarding tables, and the way through a network."""
