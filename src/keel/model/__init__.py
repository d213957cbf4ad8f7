"""Plain data: identifiers, faults, bit fields, batches of frames. Imports nothing of Keel but its errors."""
