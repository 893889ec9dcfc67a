// Stands in for pdf_page.cpp where poppler is left out of the build.
#include "preview/decoders.h"

namespace dredger::preview {

std::optional<Picture> decode_first_page(const Medium&, int) { return std::nullopt; }

std::string text_of_pages(const Medium&, std::size_t) { return {}; }

}  // namespace dredger::preview
