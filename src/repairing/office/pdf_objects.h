// The objects of a PDF (ISO 32000-1, 7.3 and 7.5), found without any table of them.
#pragma once

#include <map>
#include <string>
#include <vector>

#include "formats/reader.h"

namespace dredger::repairing {

struct PdfObject {
    unsigned generation = 0;
    std::string body;  // all of it, or its dictionary where it is a stream
    bool is_stream = false;
    Extent data;                   // of a stream: bytes of the content
    bool had_right_length = true;  // of a stream
    bool is_cut = false;           // its end is missing
};

struct PdfObjects {
    std::map<unsigned, PdfObject> objects;       // by number; of several the last one in the file
    std::map<std::string, std::string> trailer;  // what the last trailers say, by key: "Root", "Info", "ID", "Encrypt"
    std::size_t repaired_lengths = 0, cut = 0, unpacked = 0;
};

PdfObjects find_pdf_objects(Reader& content);

// The value of a key of a dictionary, as text; empty where it has none. Only keys of the dictionary itself.
std::string pdf_value(std::string_view dictionary, std::string_view key);
// The numbers of the objects that a value points to.
std::vector<unsigned> pdf_references(std::string_view value);

}  // namespace dredger::repairing
