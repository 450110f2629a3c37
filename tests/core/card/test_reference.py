"""A finished mix as far as it tells: its loudest part, against closed forms."""

import numpy as np
import pytest
import soundfile

from arkund.core.card.reference import figures_of_mix, wanted_of
from arkund.core.errors import AudioError

RATE = 44_100


def tone(seconds: float, gain: float, right: float = 1.0) -> np.ndarray:
    """Return 997 Hz on both sides, which is as many LUFS as its peak is dBFS (ITU-R BS.1770)."""
    x = gain * np.sin(2 * np.pi * 997.0 * np.arange(round(seconds * RATE)) / RATE)
    return np.stack([x, right * x], axis=1)


def written(tmp_path, audio: np.ndarray):
    path = tmp_path / "Night Drive.wav"
    soundfile.write(path, audio, RATE, subtype="FLOAT")
    return path


class TestFiguresOfMix:
    """Density, slope and mono loss of the loudest sixteen seconds."""

    def test_a_tone(self, tmp_path):
        """Peak and loudness of a tone are one; nothing is lost in mono; of one channel the same."""
        found = figures_of_mix(written(tmp_path, tone(20.0, 0.25)))
        assert found["density"] == pytest.approx(0.0, abs=0.1)
        assert found["mono"] == pytest.approx(0.0, abs=0.05)
        single = figures_of_mix(written(tmp_path, tone(20.0, 0.25)[:, :1]))
        assert single == pytest.approx(found, abs=0.05)

    def test_the_loudest_part(self, tmp_path):
        """Soft clicks before and after a loud part that is all tone do not count."""
        soft = np.zeros((30 * RATE, 2))
        soft[:: RATE // 2] = 0.2
        found = figures_of_mix(written(tmp_path, np.concatenate([soft, tone(18.0, 0.25), soft])))
        assert found["density"] == pytest.approx(0.0, abs=0.3)

    def test_mono_loss(self, tmp_path):
        """One side at half the level and upside down: a quarter of it is left, of 1.25 in power 0.0625 times two."""
        found = figures_of_mix(written(tmp_path, tone(20.0, 0.25, right=-0.5)))
        assert found["mono"] == pytest.approx(10 * np.log10(1.25 / (2 * 0.25**2)), abs=0.1)

    @pytest.mark.parametrize("audio", [np.zeros((20 * RATE, 2)), np.zeros((RATE, 1))])
    def test_silence(self, tmp_path, audio):
        with pytest.raises(AudioError, match=r"Night Drive.wav: is silent"):
            figures_of_mix(written(tmp_path, audio))

    def test_samples_beyond_all_audio(self, tmp_path):
        """Refused, as on import; what is not finite is silence."""
        with pytest.raises(AudioError, match="samples reach 1e"):
            figures_of_mix(written(tmp_path, 1e20 * tone(2.0, 1.0)))
        broken = tone(20.0, 0.25)
        broken[5000] = np.nan, np.inf
        assert figures_of_mix(written(tmp_path, broken))["mono"] == pytest.approx(0.0, abs=0.05)

    def test_no_audio(self, tmp_path):
        path = tmp_path / "mix.wav"
        path.write_bytes(b"no audio at all" * 100)
        with pytest.raises(AudioError, match=r"mix.wav: not a readable"):
            figures_of_mix(path)


class TestWantedOf:
    """What targets are about."""

    def test_no_denser_than_styles_go(self):
        """A master's ratio of 8 dB is a change of -7 where the raw kit has 18; one of 16 dB of -2; slope and mono loss stay."""
        mix = {"density": 8.0, "slope": 4.0, "mono": 0.5}
        assert wanted_of(mix, 18.0) == {"density": -7.0, "slope": 4.0, "mono": 0.5}
        assert wanted_of(mix | {"density": 16.0}, 18.0)["density"] == -2.0
        assert "density" not in wanted_of(mix, None)
