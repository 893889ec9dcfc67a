// XML that was damaged: what of it still is XML, closed so that a reader takes it.
#pragma once

#include <string>
#include <string_view>

namespace dredger::repairing {

struct CutXml {
    std::string text;        // whole; empty where not even the root begins
    std::size_t kept = 0;    // bytes of the original that are in it, from its start
    bool was_whole = false;  // nothing had to be left out or added
};

// XML up to the first place where it is no longer well-formed (XML 1.0, Namespaces in XML 1.0), with an end for each
// element that is open there.
CutXml cut_xml(std::string_view xml);

}  // namespace dredger::repairing
