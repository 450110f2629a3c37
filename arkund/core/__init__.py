"""The core: everything that Arkund measures, decides and computes, without any interface code.

Audio convention
    Audio is float32 with shape ``(samples, channels)`` and full scale 1.0; a single channel may be
    ``(samples,)`` where a docstring says so. Nothing clips inside; outputs report what would clip.
    Times are seconds from the start of the take, positions are whole samples, levels are dBFS.

Table of contents
    errors, units, settings   what every module shares
    dsp        primitives that know nothing of drums
    files      reading and writing audio
    kit        pieces, mic roles and the recognition of names
    hits ... blend            one package per step of the job: settings, measure, propose, process
    plan       what is to be done to the recordings
    render     what is heard and printed: ``render(plan, recordings, span)``
    demo       the synthesised kit and its truth
"""
