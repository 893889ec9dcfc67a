// How two things that should belong together go with each other: content, and the name that it bears.
#pragma once

namespace dredger {

enum class Agreement {
    agrees,     // the signature that belongs to the extension stands there
    fits,       // characters, as the extension says; any other text would fit as well
    disagrees,  // something else stands there
    blank,      // one repeated byte: wiped, trimmed, or never written
    unknown,    // the extension says nothing about content
};

inline bool speaks_against(Agreement agreement) {
    return agreement == Agreement::disagrees || agreement == Agreement::blank;
}

}  // namespace dredger
