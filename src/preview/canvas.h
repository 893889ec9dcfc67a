// Draws what previews consist of, and writes it as PNG.
#pragma once

#include <filesystem>
#include <memory>
#include <string>
#include <vector>

#include "preview/decoders.h"

typedef struct _cairo cairo_t;  // NOLINT: as cairo.h declares them
typedef struct _cairo_surface cairo_surface_t;

namespace dredger::preview {

class Canvas {
  public:
    Canvas(int width, int height, std::uint32_t background);                     // pixels, 0x00RRGGBB
    static std::unique_ptr<Canvas> from_png(const std::filesystem::path& path);  // null: it can't be read
    ~Canvas();
    Canvas(const Canvas&) = delete;
    Canvas& operator=(const Canvas&) = delete;

    int width() const;
    int height() const;
    void rectangle(double x, double y, double width, double height, std::uint32_t colour);
    // Within a box, keeping its shape; what was lost of it is hatched.
    void picture(const Picture& picture, double x, double y, double width, double height);
    void canvas(const Canvas& other, double x, double y, double width, double height);
    // From its top left corner on; what is wider than `width` is cut off.
    void text(const std::string& line, double x, double y, double width, double size, std::uint32_t colour,
              bool is_bold = false);
    void wave(const std::vector<float>& peaks, double x, double y, double width, double height, std::uint32_t colour);

    bool write_png(const std::filesystem::path& path) const;
    std::string png() const;  // empty: it can't be made

  private:
    explicit Canvas(cairo_surface_t* surface);
    void hatch(double x, double y, double width, double height);

    cairo_surface_t* surface_;
    cairo_t* pen_;
};

}  // namespace dredger::preview
