"""The windows that open over the views."""
