// Figures of a report, drawn with Cairo: the same drawing as SVG and as PNG.
#pragma once

#include <filesystem>
#include <functional>
#include <string>

#include "base/error.h"

typedef struct _cairo cairo_t;

namespace dredger::reporting {

class Pen {
  public:
    explicit Pen(cairo_t* cairo) : cairo_(cairo) {}
    enum class Anchor { start, middle, end };

    void rectangle(double x, double y, double width, double height, std::uint32_t colour);  // 0x00RRGGBB
    void line(double x, double y, double to_x, double to_y, std::uint32_t colour);
    // On its base line.
    void text(const std::string& text, double x, double y, double size, std::uint32_t colour,
              Anchor anchor = Anchor::start, bool is_bold = false);

  private:
    cairo_t* cairo_;
};

struct Figure {
    std::string name;   // of its files
    std::string title;  // a sentence
    int width = 0, height = 0;
    std::function<void(Pen&)> draw;
};

// Writes NAME.svg and NAME.png into `folder`.
Result<void> write_figure(const Figure& figure, const std::filesystem::path& folder);

}  // namespace dredger::reporting
