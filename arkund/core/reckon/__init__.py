"""Small reckonings of the trade, each a pure function of a few numbers: see ``reckon.sheets``, which names what each asks for."""
