"""The flow solver of the made-up rotor: one passage in the frame that turns with it."""
