"""What every room of the app knows: the state, the way back, actions, asks people keep."""
