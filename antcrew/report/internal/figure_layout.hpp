// Where everything of a drawn figure stands: panels, and every text with its place, so that none is cut or lies on
// another. Computed from the widths of texts, before anything is drawn.
#pragma once

#include <string>
#include <vector>

#include "antcrew/report/figure.hpp"
#include "antcrew/report/layer.hpp"

namespace antcrew::internal {

using namespace antcrew::layers;

enum class Anchor { left, centre, right };
enum class Ink { text, quiet };

// Places are in pixels from the left and from the top, of a figure that is `width` by `height`.
struct PlacedText {
  std::string text;
  double x = 0;
  double y = 0;  // of the middle of its line
  double size = 0;
  Anchor anchor = Anchor::left;
  Ink ink = Ink::text;
  bool upright = false;  // reads upwards, centred at x, y
};

// What a line, a point or a piece of a bar looks like, beside its name.
struct PlacedSample {
  enum class Kind { line, dashed, point, box };
  Kind kind = Kind::box;
  double x = 0;  // of its left end
  double y = 0;
  int colour = -1;
};
inline constexpr double sample_width = 22;

struct PanelPlace {
  double left = 0, right = 0, top = 0, bottom = 0;  // of the space between its axes
};

struct FigureLayout {
  double width = 0;
  double height = 0;
  std::vector<PanelPlace> panels;  // as many as the figure has
  std::vector<PlacedText> texts;
  std::vector<PlacedSample> samples;
};

FigureLayout laid_out(const Figure& figure);

// Left, right, top, bottom of a text.
struct TextBox {
  double left = 0, right = 0, top = 0, bottom = 0;
};
TextBox box_of(const PlacedText& text);

// Which kinds of panels there are: their names stand in different places.
bool is_stacked(const Panel& panel);  // pieces of bars, or bands
bool is_steps(const Panel& panel);    // bars from the axis

}  // namespace antcrew::internal
