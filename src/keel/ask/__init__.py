"""The ask: one language for what frames must meet. `language.parse` reads it, `matches.Matcher` runs it."""
