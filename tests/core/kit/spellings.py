"""Folders of drum recordings as people name them: a table by hand, and a generator of spellings. Truth is (piece, role, side)."""

import random

K_IN, K_OUT, K_SUB = ("kick", "in", ""), ("kick", "out", ""), ("kick", "sub", "")
S_TOP, S_BOT = ("snare", "top", ""), ("snare", "bottom", "")
HAT, RIDE, CRASH = ("hihat", "spot", ""), ("ride", "spot", ""), ("crash", "spot", "")
TOM1, TOM2, TOM3, FLOOR = (("tom1", "close", ""), ("tom2", "close", ""), ("tom3", "close", ""), ("floor", "close", ""))
OH_L, OH_R, OH = ("kit", "overhead", "L"), ("kit", "overhead", "R"), ("kit", "overhead", "")
RM_L, RM_R, RM = ("kit", "room", "L"), ("kit", "room", "R"), ("kit", "room", "")
TALK = ("kit", "talkback", "")

FOLDERS = {
    "counter before, hyphens": [
        ("01-Kick-Inside.wav", K_IN),
        ("02-Kick-Outside.wav", K_OUT),
        ("03-Snare-Up.wav", S_TOP),
        ("04-Snare-Dn.wav", S_BOT),
        ("05-HiHat.wav", HAT),
        ("06-Tom-1.wav", TOM1),
        ("07-Tom-2.wav", TOM2),
        ("08-Tom-3.wav", FLOOR),
        ("09-Over-L.wav", OH_L),
        ("10-Over-R.wav", OH_R),
        ("11-Room-Mono.wav", RM),
    ],
    "counter behind": [
        ("Kick_01.wav", K_IN),
        ("Snare_02.wav", S_TOP),
        ("Hat_03.wav", HAT),
        ("RackTom_04.wav", TOM1),
        ("FloorTom_05.wav", FLOOR),
        ("OHL_06.wav", OH_L),
        ("OHR_07.wav", OH_R),
        ("RoomL_08.wav", RM_L),
        ("RoomR_09.wav", RM_R),
    ],
    "title, counter and take around": [
        ("Copper Fields 09 kik in T2.wav", K_IN),
        ("Copper Fields 10 kik out T2.wav", K_OUT),
        ("Copper Fields 11 sn top T2.wav", S_TOP),
        ("Copper Fields 12 sn bot T2.wav", S_BOT),
        ("Copper Fields 13 hh T2.wav", HAT),
        ("Copper Fields 14 tom 1 T2.wav", TOM1),
        ("Copper Fields 15 tom 2 T2.wav", TOM2),
        ("Copper Fields 16 floor T2.wav", FLOOR),
        ("Copper Fields 17 oh l T2.wav", OH_L),
        ("Copper Fields 18 oh r T2.wav", OH_R),
        ("Copper Fields 19 talkback T2.wav", TALK),
    ],
    "a title of drum words": [
        ("Room For The Ride_BD.wav", K_IN),
        ("Room For The Ride_SD.wav", S_TOP),
        ("Room For The Ride_Hats.wav", HAT),
        ("Room For The Ride_Tom Hi.wav", TOM1),
        ("Room For The Ride_Tom Mid.wav", TOM2),
        ("Room For The Ride_Tom Lo.wav", FLOOR),
        ("Room For The Ride_Ride.wav", RIDE),
        ("Room For The Ride_OH Left.wav", OH_L),
        ("Room For The Ride_OH Right.wav", OH_R),
        ("Room For The Ride_Ambience.wav", RM),
    ],
    "humps": [
        ("KickIn.aif", K_IN),
        ("KickOut.aif", K_OUT),
        ("KickSub.aif", K_SUB),
        ("SnareTop.aif", S_TOP),
        ("SnareBottom.aif", S_BOT),
        ("HiHat.aif", HAT),
        ("TomRack.aif", TOM1),
        ("TomFloor.aif", FLOOR),
        ("RideCymbal.aif", RIDE),
        ("OverheadLeft.aif", OH_L),
        ("OverheadRight.aif", OH_R),
        ("RoomFarLeft.aif", RM_L),
        ("RoomFarRight.aif", RM_R),
    ],
    "run together": [
        ("kickin.wav", K_IN),
        ("kickout.wav", K_OUT),
        ("sntop.wav", S_TOP),
        ("snbtm.wav", S_BOT),
        ("hihat.wav", HAT),
        ("racktom1.wav", TOM1),
        ("racktom2.wav", TOM2),
        ("floortom.wav", FLOOR),
        ("ohl.wav", OH_L),
        ("ohr.wav", OH_R),
        ("rooml.wav", RM_L),
        ("roomr.wav", RM_R),
    ],
    "models of mics": [
        ("BD D6.wav", K_IN),
        ("BD FET47.wav", K_OUT),
        ("SD SM57.wav", S_TOP),
        ("SD Btm e604.wav", S_BOT),
        ("HH KM184.wav", HAT),
        ("Tom1 MD421.wav", TOM1),
        ("Tom2 MD421.wav", TOM2),
        ("FT D4.wav", FLOOR),
        ("OH L C414.wav", OH_L),
        ("OH R C414.wav", OH_R),
        ("Room 4038 L.wav", RM_L),
        ("Room 4038 R.wav", RM_R),
    ],
    "letters": [
        ("K In.wav", K_IN),
        ("K Out.wav", K_OUT),
        ("S T.wav", S_TOP),
        ("S B.wav", S_BOT),
        ("HH.wav", HAT),
        ("T1.wav", TOM1),
        ("T2.wav", TOM2),
        ("T3.wav", FLOOR),
        ("OH-L.wav", OH_L),
        ("OH-R.wav", OH_R),
        ("RM.wav", RM),
        ("TB.wav", TALK),
    ],
    "German": [
        ("Bassdrum innen.wav", K_IN),
        ("Bassdrum außen.wav", K_OUT),
        ("Kleine Trommel oben.wav", S_TOP),
        ("Kleine Trommel unten.wav", S_BOT),
        ("Hihat.wav", HAT),
        ("Hängetom 1.wav", TOM1),
        ("Hängetom 2.wav", TOM2),
        ("Standtom.wav", FLOOR),
        ("Becken links.wav", OH_L),
        ("Becken rechts.wav", OH_R),
        ("Raum links.wav", RM_L),
        ("Raum rechts.wav", RM_R),
    ],
    "French": [
        ("Grosse caisse int.wav", K_IN),
        ("Grosse caisse ext.wav", K_OUT),
        ("Caisse claire dessus.wav", S_TOP),
        ("Caisse claire dessous.wav", S_BOT),
        ("Charleston.wav", HAT),
        ("Tom alto.wav", TOM1),
        ("Tom médium.wav", TOM2),
        ("Tom basse.wav", FLOOR),
        ("Cymbales gauche.wav", OH_L),
        ("Cymbales droite.wav", OH_R),
        ("Ambiance.wav", RM),
    ],
    "Spanish": [
        ("Bombo dentro.wav", K_IN),
        ("Bombo fuera.wav", K_OUT),
        ("Caja arriba.wav", S_TOP),
        ("Caja abajo.wav", S_BOT),
        ("Charles.wav", HAT),
        ("Tom aéreo 1.wav", TOM1),
        ("Tom aéreo 2.wav", TOM2),
        ("Tom de piso.wav", FLOOR),
        ("Platos izq.wav", OH_L),
        ("Platos dcha.wav", OH_R),
        ("Sala.wav", RM),
    ],
    "Italian": [
        ("Cassa dentro.wav", K_IN),
        ("Cassa fuori.wav", K_OUT),
        ("Rullante sopra.wav", S_TOP),
        ("Rullante sotto.wav", S_BOT),
        ("Charleston.wav", HAT),
        ("Tom 1.wav", TOM1),
        ("Tom 2.wav", TOM2),
        ("Timpano.wav", FLOOR),
        ("Piatti sx.wav", OH_L),
        ("Piatti dx.wav", OH_R),
        ("Ambiente.wav", RM),
    ],
    "capitals and dates": [
        ("20260311_KICK IN_TK4.WAV", K_IN),
        ("20260311_KICK OUT_TK4.WAV", K_OUT),
        ("20260311_SNR_TK4.WAV", S_TOP),
        ("20260311_SNR BOTTOM_TK4.WAV", S_BOT),
        ("20260311_HAT_TK4.WAV", HAT),
        ("20260311_RACK_TK4.WAV", TOM1),
        ("20260311_FLR_TK4.WAV", FLOOR),
        ("20260311_OH L_TK4.WAV", OH_L),
        ("20260311_OH R_TK4.WAV", OH_R),
        ("20260311_CRUSH_TK4.WAV", TALK),
    ],
    "heights and plain drums": [
        ("kick.flac", K_IN),
        ("kick sub.flac", K_SUB),
        ("snare.flac", S_TOP),
        ("snare under.flac", S_BOT),
        ("hats.flac", HAT),
        ("rack hi.flac", TOM1),
        ("rack lo.flac", TOM2),
        ("floor tom.flac", FLOOR),
        ("china.flac", CRASH),
        ("cymbals l.flac", OH_L),
        ("cymbals r.flac", OH_R),
        ("hall.flac", RM),
    ],
    "numbers of all kinds": [
        ("Trk7_Kick 1_24bit.wav", K_IN),
        ("Trk8_Kick 2_24bit.wav", K_OUT),
        ("Trk9_Snare 1_24bit.wav", S_TOP),
        ("Trk10_Snare 2_24bit.wav", S_BOT),
        ("Trk11_Hi Hat_24bit.wav", HAT),
        ("Trk12_Tom I_24bit.wav", TOM1),
        ("Trk13_Tom II_24bit.wav", TOM2),
        ("Trk14_Floor_24bit.wav", FLOOR),
        ("Trk15_Ride_24bit.wav", RIDE),
        ("Trk16_Overhead L_24bit.wav", OH_L),
        ("Trk17_Overhead R_24bit.wav", OH_R),
    ],
    "one overhead, no rooms": [
        ("1 BD.wav", K_IN),
        ("2 SN.wav", S_TOP),
        ("3 TOM.wav", TOM1),
        ("4 FLOOR.wav", FLOOR),
        ("5 OH.wav", OH),
    ],
}

_WORDS = {
    K_IN: ["kick in", "kik in", "kd inside", "bd in", "kick inner", "bass drum in", "kickdrum in"],
    K_OUT: ["kick out", "kik out", "kd outside", "bd out", "kick front", "bass drum out", "kick reso"],
    K_SUB: ["kick sub", "sub kick", "bd sub", "kick low", "subkick"],
    S_TOP: ["snare top", "snr top", "sn top", "sd top", "snare up", "snare"],
    S_BOT: ["snare bottom", "snr btm", "sn bot", "sd bottom", "snare under", "snare wires"],
    HAT: ["hihat", "hi hat", "hh", "hat", "hats"],
    TOM1: ["tom 1", "rack tom 1", "t1", "rack 1", "tom1"],
    TOM2: ["tom 2", "rack tom 2", "t2", "rack 2", "tom2"],
    FLOOR: ["floor tom", "floor", "ft", "tom floor", "flr tom"],
    RIDE: ["ride", "ride cymbal", "rd"],
    OH_L: ["oh l", "overhead left", "ohl", "overheads l", "cymbals left"],
    OH_R: ["oh r", "overhead right", "ohr", "overheads r", "cymbals right"],
    RM_L: ["room l", "rm left", "amb l", "ambience left"],
    RM_R: ["room r", "rm right", "amb r", "ambience right"],
    TALK: ["talkback", "tb", "trash", "floor mic"],
}
_MODELS = ["SM57", "57", "MD421", "421", "e604", "C414", "U87", "D112", "Beta 52", "KM84", "4038", "M88"]
_TITLES = ["Copper Fields", "night_bus", "Seven Rooms", "Top Of The Hill", "LOW TIDE", "take me in", "Demo3"]


def generated(seed: int) -> list[tuple[str, tuple[str, str, str]]]:
    """Return one folder of files, named in one of many styles."""
    rng = random.Random(seed)
    pieces = [p for p in _WORDS if p in (K_IN, S_TOP, OH_L, OH_R) or rng.random() < 0.75]
    if TOM2 in pieces and TOM1 not in pieces:
        pieces.remove(TOM2)
    case = rng.choice([str.lower, str.upper, str.title, lambda text: "".join(w.title() for w in text.split())])
    between = rng.choice([" ", "_", "-", ".", " - "])
    inside = rng.choice([" ", "_", "-"])
    title = rng.choice(_TITLES) if rng.random() < 0.35 else ""
    first = rng.choice([1, 1, 9, 17]) if rng.random() < 0.5 else 0
    behind = rng.choice(["", "", "take 3", "03", "24bit", "v2"])
    models, width = rng.random() < 0.25, rng.choice(["d", "02d"])
    out = []
    for number, piece in enumerate(pieces):
        words = case(rng.choice(_WORDS[piece])).replace(" ", inside)
        parts = [title, f"{first + number:{width}}" if first else "", words]
        parts += [rng.choice(_MODELS) if models else "", behind]
        out.append((between.join(filter(None, parts)) + rng.choice([".wav", ".wav", ".flac"]), piece))
    return out
