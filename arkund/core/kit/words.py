"""What engineers write on a file for each part of a kit, in English, German, French, Spanish and Italian: lower case, without accents.

A phrase is several words that mean one thing together. Words whose meaning hangs on their company (``low`` is a sub mic beside a kick, a floor tom among toms)
stand in more than one table; ``names.py`` decides.
"""

PIECES = {
    "kick": "kick kicks kik kck kk kd bd bdr bassdrum basedrum kickdrum basstrommel grosstrommel fusstrommel bombo bumbo grancassa cassa grossecaisse gc",
    "snare": "snare snares snr snar sna sn sd snaredrum caja redoblante tarola caixa rullante caisseclaire cc",
    "hihat": "hihat hihats hat hats hh hht charley charleston charles charlie contratiempo contratempo chimbal chimbau",
    "floor": "floor floortom ft flr flt fltom ftom standtom stehtom timpano goliat surdo",
    "tom": "tom toms rack racks racktom rtom rt tt hangetom haengetom tomtom timbal timbales",
    "ride": "ride rides rid rd rde conducao",
    "crash": "crash crashes crsh china splash ataque",
    "overhead": "overhead overheads oh ohs oheads ovh ovhd ovhs overs cym cyms cymbal cymbals becken platillos platos pratos piatti cymbales"
    " aereo aereos aerei aeree aerien aeriens panoramico panoramici panoramica panoramiche",
    "room": "room rooms rm rms amb amby ambi ambience ambient ambiance ambiente ambienti ambiencia raum sala salle stanza piece hall",
    "talkback": "talkback tb talk trash crush floormic",
}
LETTERS = {"k": "kick", "s": "snare", "t": "tom"}  # alone they say little
ROLES = {
    "in": "in inside inner beater innen dentro adentro dedans interieur interno interna interior int klick click",
    "out": "out outside outer front port reso resonant hole aussen fuera afuera fora fuori dehors exterieur esterno esterna exterior externo ext",
    "sub": "sub subs lowend",
    "top": "top tp up upper batter over oben dessus haut arriba superior cima sopra alto sup",
    "bottom": "bottom bottoms btm bot bttm botm bt under below lower wires dn down unten dessous bas abajo inferior baixo embaixo sotto basso inf",
}
ROLE_LETTERS = {"kick": {"i": "in", "o": "out", "s": "sub"}, "snare": {"t": "top", "b": "bottom", "u": "bottom"}}
SIDES = {
    "L": "l left lft li links sx izq izquierda esq esquerda gauche gch sinistra sin",
    "R": "r right rgt rt re rechts dx der derecha dir direita dcha droite drt destra dest",
}
HEIGHTS = {
    "high": "hi high alto aigu agudo acuto small hoch",
    "mid": "mid middle medium mittel medio",
    "low": "lo low basse base bass bas grave big tief",
}
PHRASES = {
    "kick": "bass drum,base drum,kick drum,bass trommel,grosse trommel,fuss trommel,grosse caisse,gr caisse,gran cassa",
    "kick sub": "sub kick,sub bd,sub kd,kick low,bd low,kd low,kick lo,low kick,sub bass drum",
    "snare": "snare drum,kleine trommel,kl trommel,caisse claire,c claire,side drum",
    "hihat": "hi hat,hi hats,high hat,hi hut",
    "floor": "floor tom,tom floor,f tom,flr tom,tom flr,stand tom,tom basse,tom base,tom bass,tom bas,tom de piso,tom piso,tom piano,fl tom,tom fl,tom grave"
    ",tom chao,timbal base,timbal grave,tom sol",
    "tom": "rack tom,tom rack,tom tom,hange tom,haenge tom,r tom,hanging tom,tom aerien,toms aeriens,tom aereo,toms aereos,tom sospeso",
    "overhead": "over head,over heads,cymbal mic,cymbal mics",
    "room": "room mic,room mics,live room,drum room",
    "talkback": "talk back,floor mic,trash mic,crush mic,knee mic",
    "ride": "ride cymbal,ride cym,ride bell,cymbale ride,ride becken,plato ride,piatto ride,prato conducao",
    "crash": "crash cymbal,crash cym,crash becken,china cymbal,plato crash,piatto crash,prato ataque",
}


def _meanings(table: dict[str, str]) -> dict[str, str]:
    return {word: meaning for meaning, words in table.items() for word in words.split()}


PIECE_OF, ROLE_OF, SIDE_OF, HEIGHT_OF = map(_meanings, (PIECES, ROLES, SIDES, HEIGHTS))
PHRASE_OF = {tuple(words.split()): meaning for meaning, rows in PHRASES.items() for words in rows.split(",")}
LONGEST_PHRASE = max(map(len, PHRASE_OF))
KNOWN = frozenset(PIECE_OF) | frozenset(ROLE_OF) | frozenset(SIDE_OF) | frozenset(HEIGHT_OF)
