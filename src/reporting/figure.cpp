#include "reporting/figure.h"

#include <cairo-svg.h>
#include <cairo.h>

namespace dredger::reporting {
namespace {

void set_colour(cairo_t* cairo, std::uint32_t colour) {
    cairo_set_source_rgb(cairo, (colour >> 16 & 0xFFU) / 255.0, (colour >> 8 & 0xFFU) / 255.0,
                         (colour & 0xFFU) / 255.0);
}

// Draws onto the surface and gives it up. False where that failed.
bool draw_on(cairo_surface_t* surface, const Figure& figure, const std::filesystem::path& png) {
    cairo_t* cairo = cairo_create(surface);
    Pen pen(cairo);
    pen.rectangle(0, 0, figure.width, figure.height, 0xFFFFFF);
    figure.draw(pen);
    cairo_destroy(cairo);
    if (!png.empty()) cairo_surface_write_to_png(surface, png.c_str());
    cairo_surface_finish(surface);
    const bool fine = cairo_surface_status(surface) == CAIRO_STATUS_SUCCESS;
    cairo_surface_destroy(surface);
    return fine && (png.empty() || std::filesystem::exists(png));
}

}  // namespace

void Pen::rectangle(double x, double y, double width, double height, std::uint32_t colour) {
    set_colour(cairo_, colour);
    cairo_rectangle(cairo_, x, y, width, height);
    cairo_fill(cairo_);
}

void Pen::line(double x, double y, double to_x, double to_y, std::uint32_t colour) {
    set_colour(cairo_, colour);
    cairo_set_line_width(cairo_, 1);
    cairo_move_to(cairo_, x, y);
    cairo_line_to(cairo_, to_x, to_y);
    cairo_stroke(cairo_);
}

void Pen::text(const std::string& text, double x, double y, double size, std::uint32_t colour, Anchor anchor,
               bool is_bold) {
    cairo_select_font_face(cairo_, "sans-serif", CAIRO_FONT_SLANT_NORMAL,
                           is_bold ? CAIRO_FONT_WEIGHT_BOLD : CAIRO_FONT_WEIGHT_NORMAL);
    cairo_set_font_size(cairo_, size);
    cairo_text_extents_t room;
    cairo_text_extents(cairo_, text.c_str(), &room);
    const double back = anchor == Anchor::start ? 0 : anchor == Anchor::middle ? room.x_advance / 2 : room.x_advance;
    set_colour(cairo_, colour);
    cairo_move_to(cairo_, x - back, y);
    cairo_show_text(cairo_, text.c_str());
}

Result<void> write_figure(const Figure& figure, const std::filesystem::path& folder) {
    const auto svg = folder / (figure.name + ".svg");
    const auto png = folder / (figure.name + ".png");
    if (!draw_on(cairo_svg_surface_create(svg.c_str(), figure.width, figure.height), figure, {}) ||
        !draw_on(cairo_image_surface_create(CAIRO_FORMAT_RGB24, figure.width, figure.height), figure, png))
        return not_written("a figure can't be written", svg.string(), "check for room on the drive");
    return {};
}

}  // namespace dredger::reporting
