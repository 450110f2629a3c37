"""The synthesised kit: strokes, room, score and recording, with the truth written beside the audio.

strokes     one stroke of each piece, by level, without any sample from anywhere
room        where pieces and mics stand; arrival, loss and bleed that follow from it
score       what the drummer plays: styles, feel, and the cases that are hard for a detector
recording   strokes + room + score -> mics, with planted problems
song        the demo session: three takes of one song, files and truth
"""
