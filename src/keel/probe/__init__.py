"""From waveforms to what is said on lines, and back: recordings of probes."""
