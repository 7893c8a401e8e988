"""The engine: owns devices, timers and outputs; talks to clients over a socket; has no interface."""
