"""Load: what each mic really hears, measured against its name."""
