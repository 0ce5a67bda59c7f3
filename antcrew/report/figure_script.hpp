// A figure as a script for gnuplot, and the numbers that it reads.
//
//   FigureScript script = figure_script(figure, "svg", "data.txt", "figure.svg");
//
// What comes from a study never reaches the plotter as code: texts stand in single quotes, where nothing is replaced,
// without line ends, and enhanced text is off; numbers stand in the data. The same figure gives the same bytes. Pure.
#pragma once

#include <string>

#include "antcrew/report/figure.hpp"
#include "antcrew/report/layer.hpp"

namespace antcrew::report_layer {

struct FigureScript {
  std::string commands;
  std::string data;
};

// format: "svg", "png" or "pdf". data_file and image_file: paths that the script names; ours, not a study's.
FigureScript figure_script(const Figure& figure, const std::string& format, const std::string& data_file,
                           const std::string& image_file);

// The image with the figure's title and table as its text alternative (SVG), and without the time at which it was made
// (PDF).
std::string finished_image(std::string image, const std::string& format, const Figure& figure);

}  // namespace antcrew::report_layer
