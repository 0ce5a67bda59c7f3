#include "antcrew/report/figure_script.hpp"

#include <fmt/format.h>

#include <algorithm>
#include <cmath>

#include "antcrew/base/printable.hpp"
#include "antcrew/report/internal/end_labels.hpp"
#include "antcrew/report/internal/markup.hpp"
#include "antcrew/report/palette.hpp"

namespace antcrew::report_layer {
namespace {

using internal::escaped;

constexpr int width = 960;
constexpr int height = 600;

// Inside single quotes nothing is replaced; a quote is doubled. Line ends and control characters are gone.
std::string quoted(const std::string& text) {
  std::string quoted = "'";
  for (const char c : printable(text)) quoted += c == '\'' ? std::string("''") : std::string(1, c);
  return quoted + "'";
}

// Labels of ticks are formats, besides.
std::string tick_quoted(std::string text) {
  for (std::size_t at = text.find('%'); at != std::string::npos; at = text.find('%', at + 2)) text.insert(at, "%");
  return quoted(text);
}

std::string script_number(double value) {
  return fmt::format("{:.10g}", value);
}

int point_type(Marker marker) {
  constexpr int types[] = {7, 5, 9, 13, 11, 15};
  return types[static_cast<std::size_t>(marker)];
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
  Script(const Figure& figure, std::string data_file) : figure_(figure), file_("'" + data_file + "'") {}

  std::string commands(const std::string& format, const std::string& image_file) {
    std::string text = "set encoding utf8\n" + terminal(format) + fmt::format("set output '{}'\n", image_file);
    text += "set clip two\n";  // the ideal may begin below the panel and end above it
    text += "set border 3 lc rgb '" + std::string(quiet_colour.light) + "'\nset tics nomirror out scale 0.5\n";
    text += fmt::format(
        "set grid xtics ytics lt 1 lc rgb '{}' lw 0.7\nset errorbars small\nset style fill solid 1 border rgb '{}'\n",
        line_colour.light, page_colour.light);
    const bool several = figure_.panels.size() > 1;
    if (several) text += grid(figure_.panels.size());
    for (const Panel& panel : figure_.panels) text += panel_commands(panel, several);
    if (several) text += "unset multiplot\n";
    return text + "unset output\n";
  }
  std::string data() && { return std::move(data_).text(); }

 private:
  // Two panels beside each other have names at their right, each its own.
  std::string terminal(const std::string& format) const {
    const int across = figure_.panels.size() == 2 ? width * 4 / 3 : width;
    if (format == "png")
      return fmt::format("set terminal pngcairo noenhanced size {},{} font 'DejaVu Sans,11' background rgb '{}'\n",
                         across, height, page_colour.light);
    if (format == "pdf")
      return fmt::format("set terminal pdfcairo noenhanced size {:.2f}in,5in font 'DejaVu Sans,10'\n", across / 120.0);
    return fmt::format("set terminal svg noenhanced size {},{} dynamic font 'DejaVu Sans,14' background rgb '{}'\n",
                       across, height, page_colour.light);
  }

  std::string grid(std::size_t panels) const {
    const auto columns = static_cast<std::size_t>(std::ceil(std::sqrt(static_cast<double>(panels))));
    const std::size_t rows = (panels + columns - 1) / columns;
    return fmt::format("set multiplot layout {},{} title {} noenhanced\n", rows, columns, quoted(figure_.title));
  }

  std::string axis(char which, const Axis& axis) const {
    std::string text = fmt::format("{} logscale {}\nset {}range [{}:{}]\n", axis.logarithmic ? "set" : "unset", which,
                                   which, script_number(axis.reversed ? axis.to : axis.from),
                                   script_number(axis.reversed ? axis.from : axis.to));
    text += fmt::format("set {}tics (", which);
    for (std::size_t k = 0; k < axis.ticks.size(); ++k)
      text +=
          fmt::format("{}{} {}", k == 0 ? "" : ", ", tick_quoted(axis.ticks[k].text), script_number(axis.ticks[k].at));
    text += fmt::format(") tc rgb '{}'\nset m{}tics 1\n", text_colour.light, which);
    return text + fmt::format("set {}label {} noenhanced tc rgb '{}'\n", which, quoted(axis.label), quiet_colour.light);
  }

  std::string marks(const Panel& panel) const {
    std::string text;
    for (std::size_t k = 0; k < panel.marks.size(); ++k) {
      const AxisMark& mark = panel.marks[k];
      text += fmt::format("set arrow from {0},graph 0 to {0},graph 1 nohead lw 1 dt (3,5) lc rgb '{1}' front\n",
                          script_number(mark.at), quiet_colour.light);
      const bool right = internal::share_on(panel.x, mark.at) > 0.7;
      text +=
          fmt::format("set label {} at {},graph {} offset {},0 {} noenhanced tc rgb '{}' font ',{}' front\n",
                      quoted(mark.text), script_number(mark.at), script_number(0.97 - 0.055 * static_cast<double>(k)),
                      right ? "-0.6" : "0.6", right ? "right" : "left", quiet_colour.light, 10);
    }
    return text;
  }

  // Names at the right, each at the height where its line ends.
  std::string names(const Panel& panel, bool small) const {
    std::string text;
    std::size_t longest = 0;
    for (const internal::EndLabel& label : internal::end_labels(panel, small ? 0.09 : 0.05)) {
      const std::string name = printable(label.text, small ? 26 : 40);
      longest = std::max(longest, display_width(name));
      text += fmt::format("set label {} at graph 1.015,graph {} left noenhanced tc rgb '{}' font ',{}'\n", quoted(name),
                          script_number(label.at), look_of(label.colour).colour.light, small ? 9 : 11);
    }
    return text + fmt::format("set rmargin {}\n", std::max<std::size_t>(3, (longest * (small ? 80 : 104)) / 100 + 2));
  }

  // What the pieces of bars are, in their order, below the axis: three in a row.
  std::string legend(const Panel& panel) const {
    struct Entry {
      std::string name;
      const char* colour;
    };
    std::vector<Entry> entries;
    for (const Series& series : panel.series) entries.push_back({series.name, look_of(series.colour).colour.light});
    for (std::size_t kind = 0; kind < panel.band_kinds.size(); ++kind) {
      const BandKind& what = panel.band_kinds[kind];
      const bool used = std::any_of(panel.bands.begin(), panel.bands.end(),
                                    [&](const Band& band) { return band.kind == static_cast<int>(kind); });
      if (used) entries.push_back({what.name, band_colour(what)});
    }
    const std::size_t rows = (entries.size() + 2) / 3;
    std::string text = fmt::format("set bmargin {}\n", 4 + rows * 3 / 2);
    for (std::size_t k = 0; k < entries.size(); ++k) {
      const double x = 0.04 + 0.32 * static_cast<double>(k % 3);
      const double y = 0.035 + 0.042 * static_cast<double>(rows - 1 - k / 3);
      text += fmt::format("set label '\u25a0' at screen {},screen {} left noenhanced tc rgb '{}' font ',14'\n",
                          script_number(x), script_number(y), entries[k].colour);
      text += fmt::format("set label {} at screen {},screen {} left noenhanced tc rgb '{}' font ',11'\n",
                          quoted(printable(entries[k].name, 34)), script_number(x + 0.022), script_number(y),
                          text_colour.light);
    }
    return text;
  }

  static const char* band_colour(const BandKind& what) {
    return what.colour < 0 ? line_colour.light : look_of(what.colour).colour.light;
  }

  std::string panel_commands(const Panel& panel, bool small) {
    std::string text = "unset label\nunset arrow\nunset key\n";
    const std::string title = small ? panel.title : figure_.title;
    text += fmt::format("set title {} noenhanced tc rgb '{}' font ',{}'\n", quoted(printable(title, small ? 40 : 90)),
                        text_colour.light, small ? 11 : 15);
    text += axis('x', panel.x) + axis('y', panel.y) + marks(panel);
    const bool stacked =
        !panel.bands.empty() || (!panel.series.empty() && panel.series.front().kind == Series::Kind::bars);
    const bool steps = !panel.series.empty() && panel.series.front().kind == Series::Kind::steps;
    if (stacked) {
      text += "set rmargin 4\nunset grid\n" + legend(panel);
    } else if (!steps) {
      text += names(panel, small);
    } else {
      text += "set rmargin 4\n";
    }
    std::vector<std::string> plots;
    for (const ReferenceLine& line : panel.references) add_reference(line, plots);
    if (stacked && panel.bands.empty()) add_bars(panel, plots);
    if (!panel.bands.empty()) add_bands(panel, plots);
    for (const Series& series : panel.series) {
      if (series.kind == Series::Kind::line || series.kind == Series::Kind::dots) add_line(series, plots);
      if (series.kind == Series::Kind::steps) text += add_steps(series, plots);
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

  void add_line(const Series& series, std::vector<std::string>& plots) {
    const SeriesLook look = look_of(series.colour);
    const std::string colour = fmt::format("lc rgb '{}'", look.colour.light);
    for (const Certainty certainty : {Certainty::interval, Certainty::range}) {
      bool any = false;
      for (const FigurePoint& p : series.points) {
        if (p.certainty != certainty) continue;
        data_.row({p.x, p.y, p.low, p.high});
        any = true;
      }
      if (!any) continue;
      // Claimed bounds have caps; what was merely seen is a thin line.
      const char* style =
          certainty == Certainty::interval ? "yerrorbars pt 0 lw 1.6" : "vectors nohead lw 0.8 dt (2,3)";
      const char* columns = certainty == Certainty::interval ? "1:2:3:4" : "1:3:(0):($4-$3)";
      plots.push_back(fmt::format("{} using {} with {} {} notitle", block(data_.end()), columns, style, colour));
    }
    for (const FigurePoint& p : series.points) data_.row({p.x, p.y});
    const int at = data_.end();
    if (series.kind == Series::Kind::dots) {
      plots.push_back(
          fmt::format("{} using 1:2 with points pt {} ps 0.8 {} notitle", block(at), point_type(look.marker), colour));
    } else {
      plots.push_back(fmt::format("{} using 1:2 with linespoints pt {} ps 0.9 lw 2 dt {} {} notitle", block(at),
                                  point_type(look.marker), dash_type(look.dash), colour));
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
                                  block(data_.end()), band_colour(panel.band_kinds[kind])));
    }
  }

  std::string add_steps(const Series& series, std::vector<std::string>& plots) {
    std::string labels;
    for (const FigurePoint& p : series.points) {
      data_.row({p.x, p.y / 2, p.x - 0.32, p.x + 0.32, 0, p.y});
      if (!p.text.empty())
        labels += fmt::format("set label {} at {},{} offset 0,0.8 center noenhanced tc rgb '{}' front\n",
                              quoted(p.text), script_number(p.x), script_number(p.high), text_colour.light);
    }
    plots.push_back(fmt::format("{} using 1:2:3:4:5:6 with boxxyerror fc rgb '{}' notitle", block(data_.end()),
                                look_of(series.colour).colour.light));
    for (const FigurePoint& p : series.points) data_.row({p.x, p.y, p.low, p.high});
    plots.push_back(fmt::format("{} using 1:2:3:4 with yerrorbars pt 0 ps 0 lw 1.6 lc rgb '{}' notitle",
                                block(data_.end()), text_colour.light));
    return labels;
  }

  const Figure& figure_;
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
