"""What engineers write on a file for each part of a kit, in English, German, French, Spanish and Italian: lower case, without accents.

A phrase is several words that mean one thing together. Words whose meaning hangs on their company (``low`` is a sub mic beside a kick, a floor tom among toms)
stand in more than one table; ``names.py`` decides.
"""

PIECES = {
    "kick": "kick kicks kik kck kk kd bd bdr bassdrum basedrum kickdrum basstrommel grosstrommel bombo grancassa cassa grossecaisse gc",
    "snare": "snare snares snr snar sna sn sd snaredrum caja redoblante tarola rullante caisseclaire",
    "hihat": "hihat hihats hat hats hh hht charley charleston charles contratiempo",
    "floor": "floor floortom ft flr flt fltom ftom standtom stehtom timpano goliat",
    "tom": "tom toms rack racks racktom rtom rt tt hangetom tomtom",
    "ride": "ride rides rid rd rde",
    "crash": "crash crashes crsh china splash",
    "overhead": "overhead overheads oh ohs oheads ovh ovhd ovhs overs cym cyms cymbal cymbals becken platillos platos piatti cymbales",
    "room": "room rooms rm rms amb amby ambi ambience ambient ambiance ambiente ambienti raum sala salle stanza hall",
    "talkback": "talkback tb talk trash crush floormic",
}
LETTERS = {"k": "kick", "s": "snare", "t": "tom"}  # alone they say little
ROLES = {
    "in": "in inside inner beater innen dentro adentro interieur int klick click",
    "out": "out outside outer front port reso resonant hole aussen fuera afuera fuori exterieur ext",
    "sub": "sub subs subkick lowend",
    "top": "top tp up upper batter over oben dessus arriba sopra",
    "bottom": "bottom bottoms btm bot bttm botm bt under below lower wires dn down unten dessous abajo sotto",
}
ROLE_LETTERS = {"kick": {"i": "in", "o": "out", "s": "sub"}, "snare": {"t": "top", "b": "bottom", "u": "bottom"}}
SIDES = {
    "L": "l left lft li links sx izq izquierda gauche sinistra sin",
    "R": "r right rgt rt re rechts dx der derecha dcha droite destra dest",
}
HEIGHTS = {
    "high": "hi high alto aerien aereo small hoch",
    "mid": "mid middle medium mittel medio",
    "low": "lo low basse base bass grave big tief",
}
PHRASES = {
    "kick": "bass drum,base drum,kick drum,bass trommel,grosse trommel,grosse caisse,gran cassa",
    "kick sub": "sub kick,sub bd,sub kd,kick low,bd low,kd low,kick lo,low kick,sub bass drum",
    "snare": "snare drum,kleine trommel,caisse claire,side drum",
    "hihat": "hi hat,hi hats,high hat,hi hut",
    "floor": "floor tom,tom floor,f tom,flr tom,tom flr,stand tom,tom basse,tom base,tom bass,tom de piso,tom piso,tom piano,fl tom,tom fl,tom grave",
    "tom": "rack tom,tom rack,tom tom,hange tom,r tom,hanging tom",
    "overhead": "over head,over heads,cymbal mic,cymbal mics",
    "room": "room mic,room mics,live room,drum room",
    "talkback": "talk back,floor mic,trash mic,crush mic,knee mic",
    "ride": "ride cymbal,ride cym,ride bell,cymbale ride,ride becken",
    "crash": "crash cymbal,crash cym,crash becken,china cymbal",
}


def _meanings(table: dict[str, str]) -> dict[str, str]:
    return {word: meaning for meaning, words in table.items() for word in words.split()}


PIECE_OF, ROLE_OF, SIDE_OF, HEIGHT_OF = map(_meanings, (PIECES, ROLES, SIDES, HEIGHTS))
PHRASE_OF = {tuple(words.split()): meaning for meaning, rows in PHRASES.items() for words in rows.split(",")}
LONGEST_PHRASE = max(map(len, PHRASE_OF))
KNOWN = frozenset(PIECE_OF) | frozenset(ROLE_OF) | frozenset(SIDE_OF) | frozenset(HEIGHT_OF)
