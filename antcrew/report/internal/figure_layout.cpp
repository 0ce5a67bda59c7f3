#include "antcrew/report/internal/figure_layout.hpp"

#include <algorithm>
#include <cmath>

#include "antcrew/base/printable.hpp"
#include "antcrew/report/internal/end_labels.hpp"
#include "antcrew/report/internal/text_width.hpp"

namespace antcrew::internal {
namespace {

constexpr double edge = 18;        // around everything
constexpr double lead_size = 20;   // of the study's title
constexpr double title_size = 15;  // of what is shown
constexpr double label_size = 14;  // of ticks, axes and names
constexpr double small_size = 12;  // of the caption, and of labels where there are several panels
constexpr double line_of = 1.3;    // height of a line of text, as a multiple of its size

using Lines = std::vector<std::string>;

double widest(const Lines& lines, double size) {
  double most = 0;
  for (const std::string& line : lines) most = std::max(most, text_width(line) * size);
  return most;
}

double height_of(const Lines& lines, double size) {
  return static_cast<double>(lines.size()) * size * line_of;
}

// A name that belongs to a line, with its height in the panel.
struct Named {
  Lines lines;
  int colour = -1;
  bool dashed = false;
  double at = 0;
  double height = 0;
};

class Layouter {
 public:
  explicit Layouter(const Figure& figure) : figure_(figure) {}

  FigureLayout done() {
    double height = figure_.panels.size() > 2 ? 0 : 600;
    double lacking = place(height);
    if (lacking > 0) place(out_.height + lacking);
    return std::move(out_);
  }

 private:
  struct Region {
    double left, right, top, bottom;
  };

  void text(std::string what, double x, double y, double size, Anchor anchor, Ink ink) {
    if (!what.empty()) out_.texts.push_back({std::move(what), x, y, size, anchor, ink});
  }
  // From the top down; returns where the next line would begin.
  double lines(const Lines& all, double x, double top, double size, Anchor anchor, Ink ink) {
    for (const std::string& line : all) {
      text(line, x, top + size * line_of / 2, size, anchor, ink);
      top += size * line_of;
    }
    return top;
  }
  void centred(const Lines& all, double x, double y, double size, Anchor anchor, Ink ink) {
    lines(all, x, y - height_of(all, size) / 2, size, anchor, ink);
  }

  // Returns by how much the names beside a panel lack room.
  double place(double height) {
    out_ = FigureLayout();
    const std::size_t count = figure_.panels.size();
    const bool several = count > 1;
    out_.width = count == 2 ? 1280 : 960;
    const double room = out_.width - 2 * edge;
    const std::size_t across =
        count <= 2 ? count : static_cast<std::size_t>(std::ceil(std::sqrt(static_cast<double>(count))));
    const std::size_t down = across == 0 ? 0 : (count + across - 1) / across;

    double top = edge - 4;
    if (!figure_.study.empty())
      top = lines(lines_within(printable(figure_.study, 160), room, lead_size), edge, top, lead_size, Anchor::left,
                  Ink::text) +
            2;
    top = lines(lines_within(printable(figure_.title, 160), room, title_size), edge, top, title_size, Anchor::left,
                figure_.study.empty() ? Ink::text : Ink::quiet) +
          8;
    const Lines caption = lines_within(printable(figure_.caption + " " + figure_.basis), room, small_size);
    const std::vector<LegendRow> legend = legend_of(room);
    const double below = height_of(caption, small_size) + static_cast<double>(legend.size()) * 22 + 8;
    out_.height = std::max(height, top + below + edge + static_cast<double>(down) * (several ? 260 : 220));
    double bottom = out_.height - edge + 4 - height_of(caption, small_size);
    lines(caption, edge, bottom, small_size, Anchor::left, Ink::quiet);
    bottom -= 8 + static_cast<double>(legend.size()) * 22;
    draw(legend, bottom + 11);

    double lacking = 0;
    constexpr double between = 22;
    const double wide = (room + between) / static_cast<double>(std::max<std::size_t>(across, 1));
    const double tall = (bottom - top) / static_cast<double>(std::max<std::size_t>(down, 1));
    for (std::size_t k = 0; k < count; ++k) {
      const double x = edge + static_cast<double>(k % across) * wide;
      const double y = top + static_cast<double>(k / across) * tall;
      lacking = std::max(lacking,
                         place(figure_.panels[k], {x, x + wide - between, y, y + tall - (several ? 8 : 2)}, several));
    }
    return lacking;
  }

  double place(const Panel& panel, Region region, bool several) {
    const double size = several ? small_size : label_size;
    const bool bars = is_stacked(panel) || is_steps(panel);
    if (several)
      region.top = lines(lines_within(printable(panel.title, 90), region.right - region.left, size + 1), region.left,
                         region.top, size + 1, Anchor::left, Ink::text);
    std::vector<Named> names = several || bars ? std::vector<Named>() : names_of(panel, 0.3 * out_.width);
    PanelPlace at{region.left, region.right - 10, region.top + 4, region.bottom};

    // Left: the axis' name, and labels of ticks, of which names of bars may take lines.
    if (!panel.y.label.empty()) at.left += size * line_of + 4;
    std::vector<Lines> beside;
    double widest_tick = 0;
    for (const Tick& tick : panel.y.ticks) {
      beside.push_back(lines_within(printable(tick.text), bars ? 0.34 * out_.width : 400, size));
      widest_tick = std::max(widest_tick, widest(beside.back(), size));
    }
    at.left += widest_tick + 12;

    // Right: names of lines, what stands behind bars, half of the last tick.
    double names_wide = 0;
    for (const Named& name : names) names_wide = std::max(names_wide, widest(name.lines, size));
    if (!names.empty()) at.right = region.right - names_wide - sample_width - 18;
    if (is_steps(panel)) {
      double behind = 0;
      for (const Series& series : panel.series) {
        for (const FigurePoint& point : series.points)
          behind = std::max(behind, text_width(printable(point.text)) * size);
      }
      at.right -= behind + 8;
    }
    if (!panel.x.ticks.empty())
      at.right = std::min(at.right, region.right - text_width(printable(panel.x.ticks.back().text)) * size / 2);

    // Below: labels of ticks, which may take lines, and the axis' name.
    if (!panel.x.label.empty()) at.bottom -= size * line_of + 4;
    const double slot = (at.right - at.left) / static_cast<double>(std::max<std::size_t>(panel.x.ticks.size(), 1)) - 10;
    std::vector<Lines> under;
    double tallest = 0;
    for (const Tick& tick : panel.x.ticks) {
      const std::string label = printable(tick.text);
      // A number is not broken: what does not fit beside another is left out.
      const bool words = label.find(' ') != std::string::npos && panel.x.unit.empty();
      under.push_back(words ? lines_within(label, std::max(slot, 60.0), size) : Lines{label});
      tallest = std::max(tallest, height_of(under.back(), size));
    }
    at.bottom -= tallest + 8;

    // Above: what marks mean.
    const std::vector<MarkPlace> marks = marks_of(panel, at, region, size);
    double rows = 0;
    for (const MarkPlace& mark : marks) rows = std::max(rows, mark.row + 1);
    at.top += rows * (size * line_of + 1);
    for (const MarkPlace& mark : marks)
      text(mark.text, mark.x, at.top - 3 - (mark.row + 0.5) * (size * line_of + 1), size, Anchor::centre, Ink::quiet);
    out_.panels.push_back(at);

    label_axes(panel, at, region, size, beside, under);
    if (is_steps(panel)) behind_bars(panel, at, size);
    return beside_lines(names, at, region, size);
  }

  static double across(const Panel& panel, const PanelPlace& at, double value) {
    return at.left + share_on(panel.x, value) * (at.right - at.left);
  }
  static double down(const Panel& panel, const PanelPlace& at, double value) {
    const double share = share_on(panel.y, value);
    return panel.y.reversed ? at.top + share * (at.bottom - at.top) : at.bottom - share * (at.bottom - at.top);
  }

  void label_axes(const Panel& panel, const PanelPlace& at, const Region& region, double size,
                  const std::vector<Lines>& beside, const std::vector<Lines>& under) {
    for (std::size_t k = 0; k < beside.size(); ++k)
      centred(beside[k], at.left - 8, down(panel, at, panel.y.ticks[k].at), size, Anchor::right, Ink::text);
    // From the right: the last one is always there.
    double free_from = 1e300;
    for (std::size_t k = under.size(); k-- > 0;) {
      const double x = across(panel, at, panel.x.ticks[k].at);
      const double half = widest(under[k], size) / 2;
      if (x + half > free_from) continue;
      lines(under[k], x, at.bottom + 7, size, Anchor::centre, Ink::text);
      free_from = x - half - 6;
    }
    text(printable(panel.x.label, 60), (at.left + at.right) / 2, region.bottom - size * line_of / 2, size,
         Anchor::centre, Ink::quiet);
    if (panel.y.label.empty()) return;
    PlacedText upright{printable(panel.y.label, 60),
                       region.left + size * line_of / 2,
                       (at.top + at.bottom) / 2,
                       size,
                       Anchor::centre,
                       Ink::quiet};
    upright.upright = true;
    out_.texts.push_back(std::move(upright));
  }

  void behind_bars(const Panel& panel, const PanelPlace& at, double size) {
    for (const Series& series : panel.series) {
      for (const FigurePoint& point : series.points)
        text(printable(point.text), across(panel, at, std::max(point.high, point.y)) + 8, down(panel, at, point.x),
             size, Anchor::left, Ink::text);
    }
  }

  struct MarkPlace {
    std::string text;
    double x = 0;
    double row = 0;  // from the panel up
  };
  static std::vector<MarkPlace> marks_of(const Panel& panel, const PanelPlace& at, const Region& region, double size) {
    std::vector<MarkPlace> placed;
    for (const AxisMark& mark : panel.marks) {
      MarkPlace place{printable(mark.text, 44), across(panel, at, mark.at)};
      const double half = text_width(place.text) * size / 2;
      place.x = std::clamp(place.x, std::min(at.left + half, region.right - half), region.right - half);
      const auto taken = [&](const MarkPlace& other) {
        return other.row == place.row && std::fabs(other.x - place.x) < half + text_width(other.text) * size / 2 + 12;
      };
      while (std::any_of(placed.begin(), placed.end(), taken)) ++place.row;
      placed.push_back(std::move(place));
    }
    return placed;
  }

  static std::vector<Named> names_of(const Panel& panel, double most) {
    std::vector<Named> names;
    for (const EndLabel& label : end_labels(panel)) {
      Named name{lines_within(printable(label.text), most, label_size), label.colour, label.reference, label.at};
      name.height = height_of(name.lines, label_size) + 3;
      names.push_back(std::move(name));
    }
    return names;
  }

  // Each where its line ends, or as near to that as others let it. Returns by how much there is too little room.
  double beside_lines(std::vector<Named>& names, const PanelPlace& at, const Region& region, double size) {
    double needed = 0;
    std::vector<double> middle;
    for (const Named& name : names) {
      needed += name.height;
      middle.push_back(at.bottom - name.at * (at.bottom - at.top));
    }
    for (std::size_t k = 0; k < names.size(); ++k) {
      const double least =
          k == 0 ? at.top + names[0].height / 2 - 8 : middle[k - 1] + (names[k - 1].height + names[k].height) / 2;
      middle[k] = std::max(middle[k], least);
    }
    double lowest = region.bottom;
    for (std::size_t k = names.size(); k-- > 0;) {
      middle[k] = std::min(middle[k], lowest - names[k].height / 2);
      lowest = middle[k] - names[k].height / 2;
    }
    for (std::size_t k = 0; k < names.size(); ++k) {
      const double x = at.right + 10;
      out_.samples.push_back(
          {names[k].dashed ? PlacedSample::Kind::dashed : PlacedSample::Kind::point, x, middle[k], names[k].colour});
      double line = middle[k] - height_of(names[k].lines, size) / 2;
      lines(names[k].lines, x + sample_width + 4, line, size, Anchor::left, Ink::text);
    }
    return needed - (region.bottom - at.top + 8);
  }

  struct LegendEntry {
    std::string name;
    int colour = -1;
    PlacedSample::Kind kind = PlacedSample::Kind::box;
    double width = 0;
  };
  using LegendRow = std::vector<LegendEntry>;

  // What pieces of bars are; of several panels, what lines and bars are in all of them.
  std::vector<LegendRow> legend_of(double room) const {
    LegendRow entries;
    const auto add = [&](const std::string& name, int colour, PlacedSample::Kind kind) {
      const auto same = [&](const LegendEntry& entry) {
        return entry.name == printable(name, 70) && entry.colour == colour;
      };
      if (std::any_of(entries.begin(), entries.end(), same)) return;
      entries.push_back({printable(name, 70), colour, kind, 0});
      entries.back().width = sample_width + 6 + text_width(entries.back().name) * label_size + 26;
    };
    for (const Panel& panel : figure_.panels) {
      if (!is_stacked(panel) && (figure_.panels.size() == 1 || is_steps(panel))) continue;
      for (const Series& series : panel.series)
        add(series.name, series.colour, is_stacked(panel) ? PlacedSample::Kind::box : PlacedSample::Kind::line);
      for (std::size_t kind = 0; kind < panel.band_kinds.size(); ++kind) {
        const bool used = std::any_of(panel.bands.begin(), panel.bands.end(),
                                      [&](const Band& band) { return band.kind == static_cast<int>(kind); });
        if (used) add(panel.band_kinds[kind].name, panel.band_kinds[kind].colour, PlacedSample::Kind::box);
      }
      for (const ReferenceLine& line : panel.references)
        if (!line.points.empty()) add(line.name, -1, PlacedSample::Kind::dashed);
    }
    std::vector<LegendRow> rows;
    double used = 1e300;
    for (LegendEntry& entry : entries) {
      if (used + entry.width > room + 26) {
        rows.emplace_back();
        used = 0;
      }
      used += entry.width;
      rows.back().push_back(std::move(entry));
    }
    return rows;
  }

  void draw(const std::vector<LegendRow>& rows, double y) {
    for (const LegendRow& row : rows) {
      double x = edge;
      for (const LegendEntry& entry : row) {
        out_.samples.push_back({entry.kind, x, y, entry.colour});
        text(entry.name, x + sample_width + 6, y, label_size, Anchor::left, Ink::text);
        x += entry.width;
      }
      y += 22;
    }
  }

  const Figure& figure_;
  FigureLayout out_;
};

}  // namespace

bool is_stacked(const Panel& panel) {
  return !panel.bands.empty() || (!panel.series.empty() && panel.series.front().kind == Series::Kind::bars);
}

bool is_steps(const Panel& panel) {
  return !panel.series.empty() && panel.series.front().kind == Series::Kind::steps;
}

TextBox box_of(const PlacedText& text) {
  const double length = text_width(text.text) * text.size;
  const double height = text.size;
  if (text.upright) return {text.x - height / 2, text.x + height / 2, text.y - length / 2, text.y + length / 2};
  const double left = text.anchor == Anchor::left     ? text.x
                      : text.anchor == Anchor::centre ? text.x - length / 2
                                                      : text.x - length;
  return {left, left + length, text.y - height / 2, text.y + height / 2};
}

FigureLayout laid_out(const Figure& figure) {
  return Layouter(figure).done();
}

}  // namespace antcrew::internal
