"""Device filters: conditions on what is known of a device, and on how it stands at a release."""

from __future__ import annotations

from collections.abc import Mapping

from msgspec import Struct
from msgspec.structs import asdict, replace


class DeviceFilter(Struct, frozen=True):
    """Every given part must fit; an empty one fits all. `mark` goes with `requirement`, both with a release.

    `words` must each occur in id, name, site, role or model.
    """

    state: str = ""
    site: str = ""
    role: str = ""
    model: str = ""
    requirement: str = ""
    mark: str = ""
    words: str = ""

    def on_top_of(self, other: DeviceFilter) -> DeviceFilter:
        """These conditions. Where one is empty, the other filter's condition takes its place."""
        return replace(other, **{name: value for name, value in asdict(self).items() if value})

    def fits_class(self, model: str, marks: Mapping[str, str]) -> bool:
        """Whether devices of this model with these marks fit, by model, requirement and mark alone."""
        if self.model and model != self.model:
            return False
        if not self.requirement:
            return True
        mark = marks.get(self.requirement, "met")
        return mark == self.mark if self.mark else mark != "met"

    def fits(self, state: str, site: str, role: str, model: str, marks: Mapping[str, str]) -> bool:
        """Whether devices in this state at this place fit, words apart."""
        given = ((self.state, state), (self.site, site), (self.role, role))
        return all(not wanted or wanted == has for wanted, has in given) and self.fits_class(model, marks)

    def fits_device(self, device: str, name: str, site: str, role: str, model: str) -> bool:
        """Whether a device fits by its site, its role and the words, its class apart."""
        if (self.site and site != self.site) or (self.role and role != self.role):
            return False
        return not self.words or self.fits_words(device, name, site, role, model)

    def fits_words(self, *texts: str) -> bool:
        """Whether each word of the filter occurs in one of these texts, in any case."""
        text = " ".join(texts).lower()
        return all(word in text for word in self.words.lower().split())
