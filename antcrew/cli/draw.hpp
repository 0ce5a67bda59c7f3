// Figures as files, drawn by gnuplot.
#pragma once

#include <string>

#include "antcrew/cli/layer.hpp"
#include "antcrew/report/figure.hpp"

namespace antcrew::cli_layer {

// Throws Error (cli.plotter) when gnuplot is not installed.
void check_plotter();

// The bytes of an image: "svg", "png" or "pdf". Throws Error (cli.plotter, cli.figure).
std::string draw(const Figure& figure, const std::string& format);

}  // namespace antcrew::cli_layer
