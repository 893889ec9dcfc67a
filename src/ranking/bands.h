// From which prospect on each band's word is used.
#pragma once

#include "ranking/prospect.h"

namespace dredger {

inline constexpr double kSoundFrom = 88;
inline constexpr double kPatchyFrom = 35;
inline constexpr double kFaintFrom = 3;

inline Band band_for(double prospect) {
    return prospect >= kSoundFrom    ? Band::sound
           : prospect >= kPatchyFrom ? Band::patchy
           : prospect >= kFaintFrom  ? Band::faint
                                     : Band::gone;
}

}  // namespace dredger
