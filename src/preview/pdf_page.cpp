#include <algorithm>
#include <memory>
#include <poppler/cpp/poppler-document.h>
#include <poppler/cpp/poppler-global.h>
#include <poppler/cpp/poppler-page-renderer.h>
#include <poppler/cpp/poppler-page.h>

#include "preview/decoders.h"

namespace dredger::preview {

namespace {

// The document refers to the bytes, which must outlive it.
struct Opened {
    std::vector<std::byte> bytes;
    std::unique_ptr<poppler::document> document;  // null: it can't be opened
};

Opened open(const Medium& content) {
    constexpr std::uint64_t kMax = 256 << 20;  // bytes: poppler wants the document in memory
    Opened opened;
    if (content.size() > kMax) return opened;
    opened.bytes.resize(static_cast<std::size_t>(content.size()));
    std::vector<Extent> bad;
    if (!content.read(0, opened.bytes, &bad)) return opened;
    poppler::set_debug_error_function([](const std::string&, void*) {}, nullptr);
    opened.document.reset(poppler::document::load_from_raw_data(reinterpret_cast<const char*>(opened.bytes.data()),
                                                                static_cast<int>(opened.bytes.size())));
    return opened;
}

}  // namespace

std::string text_of_pages(const Medium& content, std::size_t most) {
    const Opened opened = open(content);
    std::string text;
    for (int i = 0; opened.document && i < opened.document->pages() && text.size() < most; ++i) {
        const std::unique_ptr<poppler::page> page(opened.document->create_page(i));
        if (i > 0) text += '\f';
        if (!page) continue;
        const poppler::byte_array utf8 = page->text().to_utf8();
        text.append(utf8.begin(), utf8.end());
        text += '\n';
    }
    return text;
}

std::optional<Picture> decode_first_page(const Medium& content, int side) {
    const Opened opened = open(content);
    const std::unique_ptr<poppler::page> page(opened.document ? opened.document->create_page(0) : nullptr);
    if (!page) return std::nullopt;
    const poppler::rectf paper = page->page_rect();
    const double longer = std::max({paper.width(), paper.height(), 1.0});
    const double dpi = std::clamp(72.0 * side / longer, 1.0, 2400.0);
    poppler::page_renderer renderer;
    renderer.set_render_hint(poppler::page_renderer::antialiasing);
    renderer.set_render_hint(poppler::page_renderer::text_antialiasing);
    renderer.set_image_format(poppler::image::format_argb32);
    const poppler::image image = renderer.render_page(page.get(), dpi, dpi);
    if (!image.is_valid()) return std::nullopt;
    Picture picture;
    picture.width = image.width();
    picture.height = picture.good_rows = image.height();
    for (int y = 0; y < picture.height; ++y) {
        const auto* row = reinterpret_cast<const std::uint32_t*>(image.const_data() + y * image.bytes_per_row());
        for (int x = 0; x < picture.width; ++x) picture.pixels.push_back(row[x] & 0xFFFFFFU);
    }
    return picture;
}

}  // namespace dredger::preview
