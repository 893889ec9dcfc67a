#include "preview/canvas.h"

#include <algorithm>
#include <cairo.h>

namespace dredger::preview {
namespace {

void set_colour(cairo_t* pen, std::uint32_t colour, double opacity = 1) {
    cairo_set_source_rgba(pen, (colour >> 16 & 0xFFU) / 255.0, (colour >> 8 & 0xFFU) / 255.0, (colour & 0xFFU) / 255.0,
                          opacity);
}

}  // namespace

Canvas::Canvas(cairo_surface_t* surface) : surface_(surface), pen_(cairo_create(surface)) {}

Canvas::Canvas(int width, int height, std::uint32_t background)
    : Canvas(cairo_image_surface_create(CAIRO_FORMAT_RGB24, width, height)) {
    set_colour(pen_, background);
    cairo_paint(pen_);
}

std::unique_ptr<Canvas> Canvas::from_png(const std::filesystem::path& path) {
    cairo_surface_t* surface = cairo_image_surface_create_from_png(path.c_str());
    if (cairo_surface_status(surface) != CAIRO_STATUS_SUCCESS) {
        cairo_surface_destroy(surface);
        return nullptr;
    }
    return std::unique_ptr<Canvas>(new Canvas(surface));
}

Canvas::~Canvas() {
    cairo_destroy(pen_);
    cairo_surface_destroy(surface_);
}

int Canvas::width() const { return cairo_image_surface_get_width(surface_); }
int Canvas::height() const { return cairo_image_surface_get_height(surface_); }

void Canvas::rectangle(double x, double y, double width, double height, std::uint32_t colour) {
    set_colour(pen_, colour);
    cairo_rectangle(pen_, x, y, width, height);
    cairo_fill(pen_);
}

void Canvas::picture(const Picture& picture, double x, double y, double width, double height) {
    if (picture.empty()) return;
    Canvas raw(picture.width, picture.height, 0);
    cairo_surface_flush(raw.surface_);
    const auto stride = static_cast<std::size_t>(cairo_image_surface_get_stride(raw.surface_));
    unsigned char* data = cairo_image_surface_get_data(raw.surface_);
    for (std::size_t row = 0; row < static_cast<std::size_t>(picture.height); ++row) {
        const auto from =
            picture.pixels.begin() + static_cast<std::ptrdiff_t>(row * static_cast<std::size_t>(picture.width));
        std::copy_n(from, picture.width, reinterpret_cast<std::uint32_t*>(data + row * stride));
    }
    cairo_surface_mark_dirty(raw.surface_);
    if (picture.good_rows < picture.height)
        raw.hatch(0, picture.good_rows, picture.width, picture.height - picture.good_rows);
    canvas(raw, x, y, width, height);
}

void Canvas::hatch(double x, double y, double width, double height) {
    constexpr double kGap = 14;
    rectangle(x, y, width, height, 0xE9E4DA);
    cairo_save(pen_);
    cairo_rectangle(pen_, x, y, width, height);
    cairo_clip(pen_);
    set_colour(pen_, 0xB5532A, 0.8);
    cairo_set_line_width(pen_, 3);
    for (double at = x - height; at < x + width; at += kGap) {
        cairo_move_to(pen_, at, y + height);
        cairo_line_to(pen_, at + height, y);
    }
    cairo_stroke(pen_);
    cairo_restore(pen_);
}

void Canvas::canvas(const Canvas& other, double x, double y, double width, double height) {
    const double factor = std::min({width / other.width(), height / other.height(), 4.0});
    cairo_save(pen_);
    cairo_translate(pen_, x + (width - other.width() * factor) / 2, y + (height - other.height() * factor) / 2);
    cairo_scale(pen_, factor, factor);
    cairo_set_source_surface(pen_, other.surface_, 0, 0);
    cairo_pattern_set_filter(cairo_get_source(pen_), CAIRO_FILTER_GOOD);
    cairo_paint(pen_);
    cairo_restore(pen_);
}

void Canvas::text(const std::string& line, double x, double y, double width, double size, std::uint32_t colour,
                  bool is_bold) {
    cairo_save(pen_);
    cairo_rectangle(pen_, x, y, width, 1.4 * size);
    cairo_clip(pen_);
    cairo_select_font_face(pen_, "sans-serif", CAIRO_FONT_SLANT_NORMAL,
                           is_bold ? CAIRO_FONT_WEIGHT_BOLD : CAIRO_FONT_WEIGHT_NORMAL);
    cairo_set_font_size(pen_, size);
    set_colour(pen_, colour);
    cairo_move_to(pen_, x, y + size);
    cairo_show_text(pen_, line.c_str());
    cairo_restore(pen_);
}

void Canvas::wave(const std::vector<float>& peaks, double x, double y, double width, double height,
                  std::uint32_t colour) {
    set_colour(pen_, colour);
    const auto columns = static_cast<std::size_t>(std::max(1.0, width));
    for (std::size_t column = 0; column < columns && !peaks.empty(); ++column) {
        const std::size_t from = std::min(column * peaks.size() / columns, peaks.size() - 1);
        const std::size_t to = std::max(from + 1, (column + 1) * peaks.size() / columns);
        const double loud = *std::max_element(peaks.begin() + static_cast<std::ptrdiff_t>(from),
                                              peaks.begin() + static_cast<std::ptrdiff_t>(std::min(to, peaks.size())));
        const double half = std::max(0.5, loud * height / 2);
        cairo_rectangle(pen_, x + static_cast<double>(column), y + height / 2 - half, 1, 2 * half);
    }
    cairo_fill(pen_);
}

bool Canvas::write_png(const std::filesystem::path& path) const {
    return cairo_surface_write_to_png(surface_, path.c_str()) == CAIRO_STATUS_SUCCESS;
}

std::string Canvas::png() const {
    std::string bytes;
    const auto add = [](void* to, const unsigned char* data, unsigned length) {
        static_cast<std::string*>(to)->append(reinterpret_cast<const char*>(data), length);
        return CAIRO_STATUS_SUCCESS;
    };
    return cairo_surface_write_to_png_stream(surface_, add, &bytes) == CAIRO_STATUS_SUCCESS ? bytes : std::string();
}

}  // namespace dredger::preview
