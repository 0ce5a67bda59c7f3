#include "antcrew/report/figure_script.hpp"

#include <fmt/format.h>

#include <algorithm>
#include <cmath>

#include "antcrew/base/printable.hpp"
#include "antcrew/report/internal/end_labels.hpp"
#include "antcrew/report/internal/figure_layout.hpp"
#include "antcrew/report/internal/markup.hpp"
#include "antcrew/report/palette.hpp"

namespace antcrew::report_layer {
namespace {

using internal::escaped;
using internal::FigureLayout;
using internal::PanelPlace;
using internal::PlacedSample;
using internal::PlacedText;

// Inside single quotes nothing is replaced; a quote is doubled. Line ends and control characters are gone.
std::string quoted(const std::string& text) {
  std::string quoted = "'";
  for (const char c : printable(text)) quoted += c == '\'' ? std::string("''") : std::string(1, c);
  return quoted + "'";
}

std::string script_number(double value) {
  return fmt::format("{:.10g}", value);
}

// Hollow ones have the number before.
int point_type(Marker marker, bool hollow = false) {
  constexpr int types[] = {7, 5, 9, 13, 11, 15};
  return types[static_cast<std::size_t>(marker)] - (hollow ? 1 : 0);
}

const char* dash_type(Dash dash) {
  constexpr const char* types[] = {"solid", "(10,5)", "(2,4)", "(18,6)"};
  return types[static_cast<std::size_t>(dash)];
}

// Rows of one series are a block of the data, found by its number.
class Data {
 public:
  void row(std::initializer_list<double> values) {
    for (const double value : values) block_ += script_number(value) + " ";
    block_ += "\n";
  }
  // Of the block that ends here; a block without rows still counts.
  int end() {
    text_ += (block_.empty() ? "nan nan nan nan nan nan\n" : block_) + "\n\n";
    block_.clear();
    return blocks_++;
  }
  std::string text() && { return std::move(text_); }

 private:
  std::string block_;
  std::string text_;
  int blocks_ = 0;
};

class Script {
 public:
  Script(const Figure& figure, std::string data_file)
      : figure_(figure), layout_(internal::laid_out(figure)), file_("'" + data_file + "'") {}

  std::string commands(const std::string& format, const std::string& image_file) {
    format_ = format;
    std::string text = "set encoding utf8\n" + terminal() + fmt::format("set output '{}'\n", image_file);
    text += "set clip two\n";  // the ideal may begin below the panel and end above it
    text += "set border 3 lc rgb '" + std::string(quiet_colour.light) + "'\nset tics nomirror out scale 0.5\n";
    text += "set mxtics 1\nset mytics 1\nset format ''\nunset key\n";
    text += fmt::format("set errorbars 0.6\nset style fill solid 1 border rgb '{}'\n", page_colour.light);
    text += "set multiplot\n" + texts() + samples();
    for (std::size_t k = 0; k < figure_.panels.size(); ++k) {
      text += panel_commands(figure_.panels[k], layout_.panels[k]);
      text += "unset label\nunset arrow\nunset object\n";  // they belong to no panel, and are drawn once
    }
    return text + "unset multiplot\nunset output\n";
  }
  std::string data() && { return std::move(data_).text(); }

 private:
  // A pixel is 1/96 inch in PNG, and 1/120 inch on paper.
  std::string terminal() const {
    const int across = static_cast<int>(std::lround(layout_.width));
    const int down = static_cast<int>(std::lround(layout_.height));
    if (format_ == "png")
      return fmt::format("set terminal pngcairo noenhanced size {},{} font 'DejaVu Sans,11' background rgb '{}'\n",
                         across, down, page_colour.light);
    if (format_ == "pdf")
      return fmt::format("set terminal pdfcairo noenhanced size {:.2f}in,{:.2f}in fontscale 1 font 'DejaVu Sans,9'\n",
                         across / 120.0, down / 120.0);
    return fmt::format("set terminal svg noenhanced size {},{} dynamic font 'DejaVu Sans,14' background rgb '{}'\n",
                       across, down, page_colour.light);
  }

  // In the unit in which this format counts fonts.
  double font(double pixels) const { return format_ == "svg" ? pixels : pixels * (format_ == "png" ? 0.75 : 0.6); }

  std::string at(double x, double y) const {
    return fmt::format("screen {},screen {}", script_number(x / layout_.width), script_number(1 - y / layout_.height));
  }

  std::string texts() const {
    std::string commands;
    for (const PlacedText& text : layout_.texts) {
      const char* sides[] = {"left", "center", "right"};
      const char* colour = text.ink == internal::Ink::text ? text_colour.light : quiet_colour.light;
      commands += fmt::format("set label {} at {} {}{} noenhanced tc rgb '{}' font ',{:.4g}' front\n",
                              quoted(text.text), at(text.x, text.y), sides[static_cast<std::size_t>(text.anchor)],
                              text.upright ? " rotate by 90" : "", colour, font(text.size));
    }
    return commands;
  }

  std::string samples() const {
    std::string commands;
    for (const PlacedSample& sample : layout_.samples) {
      const SeriesLook look = look_of(sample.colour);
      const std::string colour =
          sample.kind == PlacedSample::Kind::box ? band_colour(sample.colour) : look.colour.light;
      const double end = sample.x + internal::sample_width;
      if (sample.kind == PlacedSample::Kind::box) {
        commands += fmt::format("set object rectangle from {} to {} fs solid 1 noborder fc rgb '{}' front\n",
                                at(sample.x + 6, sample.y + 6), at(end - 3, sample.y - 6), colour);
        continue;
      }
      const bool dashed = sample.kind == PlacedSample::Kind::dashed;
      commands += fmt::format("set arrow from {} to {} nohead lw {} dt {} lc rgb '{}' front\n", at(sample.x, sample.y),
                              at(end, sample.y), dashed ? "1.4" : "2", dashed ? "(6,5)" : dash_type(look.dash), colour);
      if (!dashed)
        commands += fmt::format("set label '' at {} point pt {} ps 0.9 lc rgb '{}' front\n",
                                at(sample.x + internal::sample_width / 2, sample.y), point_type(look.marker), colour);
    }
    return commands;
  }

  // Its labels stand in the layout.
  std::string axis(char which, const Axis& axis) const {
    std::string text = fmt::format("{} logscale {}\nset {}range [{}:{}]\n", axis.logarithmic ? "set" : "unset", which,
                                   which, script_number(axis.reversed ? axis.to : axis.from),
                                   script_number(axis.reversed ? axis.from : axis.to));
    text += fmt::format("set {}tics (", which);
    for (std::size_t k = 0; k < axis.ticks.size(); ++k)
      text += fmt::format("{}'' {}", k == 0 ? "" : ", ", script_number(axis.ticks[k].at));
    return text + ")\n";
  }

  static std::string marks(const Panel& panel) {
    std::string text;
    for (const AxisMark& mark : panel.marks)
      text += fmt::format("set arrow from {0},graph 0 to {0},graph 1 nohead lw 1 dt (3,5) lc rgb '{1}' front\n",
                          script_number(mark.at), quiet_colour.light);
    return text;
  }

  static const char* band_colour(int colour) { return colour < 0 ? line_colour.light : look_of(colour).colour.light; }

  std::string panel_commands(const Panel& panel, const PanelPlace& place) {
    std::string text =
        fmt::format("set lmargin at screen {}\nset rmargin at screen {}\n", script_number(place.left / layout_.width),
                    script_number(place.right / layout_.width));
    text +=
        fmt::format("set tmargin at screen {}\nset bmargin at screen {}\n",
                    script_number(1 - place.top / layout_.height), script_number(1 - place.bottom / layout_.height));
    text += axis('x', panel.x) + axis('y', panel.y) + marks(panel);
    const bool bars = internal::is_stacked(panel) || internal::is_steps(panel);
    text += bars ? "unset grid\n" : "";
    text += fmt::format("set grid {} lt 1 lc rgb '{}' lw 0.7\n", bars ? "xtics" : "xtics ytics", line_colour.light);
    std::vector<std::string> plots;
    for (const ReferenceLine& line : panel.references) add_reference(line, plots);
    if (!panel.bands.empty()) {
      add_bands(panel, plots);
    } else if (internal::is_stacked(panel)) {
      add_bars(panel, plots);
    }
    for (const Series& series : panel.series) {
      if (series.kind == Series::Kind::line || series.kind == Series::Kind::dots) add_line(panel, series, plots);
      if (series.kind == Series::Kind::steps) add_steps(series, plots);
    }
    text += "plot ";
    for (std::size_t k = 0; k < plots.size(); ++k) text += (k == 0 ? "" : ", \\\n     ") + plots[k];
    return text + "\n";
  }

  std::string block(int number_of) const { return fmt::format("{} index {}", file_, number_of); }

  void add_reference(const ReferenceLine& line, std::vector<std::string>& plots) {
    if (!line.bounds.empty()) {
      for (std::size_t k = 0; k < line.points.size(); ++k)
        data_.row({line.points[k].first, line.bounds[k].first, line.bounds[k].second});
      plots.push_back(fmt::format("{} using 1:2:3 with filledcurves fc rgb '{}' fs transparent solid 0.18 notitle",
                                  block(data_.end()), grey.light));
    }
    for (const auto& [x, y] : line.points) data_.row({x, y});
    plots.push_back(
        fmt::format("{} using 1:2 with lines lw 1.4 dt (6,5) lc rgb '{}' notitle", block(data_.end()), grey.light));
  }

  static double drawn_x(const Panel& panel, const FigurePoint& p) {
    return p.aside == 0 ? p.x : internal::value_at(panel.x, internal::share_on(panel.x, p.x) + p.aside);
  }

  void add_line(const Panel& panel, const Series& series, std::vector<std::string>& plots) {
    const SeriesLook look = look_of(series.colour);
    const std::string colour = fmt::format("lc rgb '{}'", look.colour.light);
    for (const Certainty certainty : {Certainty::interval, Certainty::range}) {
      bool any = false;
      for (const FigurePoint& p : series.points) {
        if (p.certainty != certainty) continue;
        data_.row({drawn_x(panel, p), p.y, std::max(p.low, panel.y.logarithmic ? panel.y.from * 1e-3 : p.low), p.high});
        any = true;
      }
      if (!any) continue;
      // Claimed bounds have caps; what was merely seen is a thin line.
      const char* style =
          certainty == Certainty::interval ? "yerrorbars pt 0 lw 1.6" : "vectors nohead lw 0.8 dt (2,3)";
      const char* columns = certainty == Certainty::interval ? "1:2:3:4" : "1:3:(0):($4-$3)";
      plots.push_back(fmt::format("{} using {} with {} {} notitle", block(data_.end()), columns, style, colour));
    }
    if (series.kind == Series::Kind::line) {
      for (const FigurePoint& p : series.points) data_.row({drawn_x(panel, p), p.y});
      plots.push_back(fmt::format("{} using 1:2 with lines lw 2 dt {} {} notitle", block(data_.end()),
                                  dash_type(look.dash), colour));
    }
    // What no statement rests on is hollow: the page's colour, with the sign's edge over it.
    for (const bool hollow : {false, true}) {
      bool any = false;
      for (const FigurePoint& p : series.points) {
        if (p.noisy != hollow) continue;
        data_.row({drawn_x(panel, p), p.y});
        any = true;
      }
      if (!any) continue;
      const int rows = data_.end();
      const char* points = series.kind == Series::Kind::dots ? "0.8" : "0.9";
      if (hollow)
        plots.push_back(fmt::format("{} using 1:2 with points pt {} ps {} lc rgb '{}' notitle", block(rows),
                                    point_type(look.marker), points, page_colour.light));
      plots.push_back(fmt::format("{} using 1:2 with points pt {} ps {} lw 1.6 {} notitle", block(rows),
                                  point_type(look.marker, hollow), points, colour));
    }
  }

  void add_bars(const Panel& panel, std::vector<std::string>& plots) {
    std::vector<double> end(panel.y.ticks.size(), 0.0);
    for (const Series& series : panel.series) {
      for (const FigurePoint& p : series.points) {
        const auto bar = static_cast<std::size_t>(p.x);
        data_.row({end[bar] + p.y / 2, p.x, end[bar], end[bar] + p.y, p.x - 0.34, p.x + 0.34});
        end[bar] += p.y;
      }
      plots.push_back(fmt::format("{} using 1:2:3:4:5:6 with boxxyerror fc rgb '{}' notitle", block(data_.end()),
                                  look_of(series.colour).colour.light));
    }
  }

  void add_bands(const Panel& panel, std::vector<std::string>& plots) {
    for (std::size_t kind = 0; kind < panel.band_kinds.size(); ++kind) {
      bool any = false;
      for (const Band& band : panel.bands) {
        if (band.kind != static_cast<int>(kind)) continue;
        const double lane = band.lane;
        data_.row({(band.from + band.to) / 2, lane, band.from, band.to, lane - 0.4, lane + 0.4});
        any = true;
      }
      if (!any) continue;
      plots.push_back(fmt::format("{} using 1:2:3:4:5:6 with boxxyerror fc rgb '{}' fs solid 1 noborder notitle",
                                  block(data_.end()), band_colour(panel.band_kinds[kind].colour)));
    }
  }

  // From the axis to the value, with its bounds; a pale one where nothing rests on it.
  void add_steps(const Series& series, std::vector<std::string>& plots) {
    for (const bool noisy : {false, true}) {
      bool any = false;
      for (const FigurePoint& p : series.points) {
        if (p.noisy != noisy) continue;
        data_.row({p.y / 2, p.x, 0, p.y, p.x - 0.32, p.x + 0.32});
        any = true;
      }
      if (!any) continue;
      plots.push_back(fmt::format("{} using 1:2:3:4:5:6 with boxxyerror fc rgb '{}' fs {} notitle", block(data_.end()),
                                  look_of(series.colour).colour.light,
                                  noisy ? "transparent solid 0.35" : "solid 1 noborder"));
    }
    for (const FigurePoint& p : series.points) data_.row({p.y, p.x, p.low, p.high});
    const int bounds = data_.end();
    // With an edge of the page's colour: bars may be as dark as the line.
    for (const auto& [colour, width_of] : {std::pair{page_colour.light, "4"}, {text_colour.light, "1.6"}})
      plots.push_back(fmt::format("{} using 1:2:3:4 with xerrorbars pt 0 ps 0 lw {} lc rgb '{}' notitle", block(bounds),
                                  width_of, colour));
  }

  const Figure& figure_;
  const FigureLayout layout_;
  std::string format_;
  std::string file_;
  Data data_;
};

void replace_between(std::string& text, const std::string& open, const std::string& close, const std::string& by) {
  const std::size_t from = text.find(open);
  if (from == std::string::npos) return;
  const std::size_t to = text.find(close, from + open.size());
  if (to != std::string::npos) text.replace(from + open.size(), to - from - open.size(), by);
}

}  // namespace

FigureScript figure_script(const Figure& figure, const std::string& format, const std::string& data_file,
                           const std::string& image_file) {
  Script script(figure, data_file);
  FigureScript made;
  made.commands = script.commands(format, image_file);
  made.data = std::move(script).data();
  return made;
}

std::string finished_image(std::string image, const std::string& format, const Figure& figure) {
  if (format == "svg") {
    std::string table = figure.caption;
    for (const auto& row : figure.table.rows) {
      table += "\n";
      for (std::size_t k = 0; k < row.size(); ++k)
        table += fmt::format("{}{}: {}", k == 0 ? "" : "; ", figure.table.heads.at(k), row[k]);
    }
    replace_between(image, "<title>", "</title>", escaped(printable(figure.title)));
    replace_between(image, "<desc>", "</desc>", escaped(table));
  }
  if (format == "pdf") {
    // Its own length must stay: places in the file are counted.
    const std::size_t at = image.find("/CreationDate (D:");
    const std::size_t digits = at + std::string("/CreationDate (D:").size();
    for (std::size_t k = digits; at != std::string::npos && k < image.size() && image[k] != ')'; ++k) {
      if (image[k] >= '0' && image[k] <= '9') image[k] = '0';
    }
  }
  return image;
}

}  // namespace antcrew::report_layer
