// `antcrew help`: the guides, the help of a command, and words for a shell that completes them.
#pragma once

#include <string>

namespace CLI {
class App;
}

// Without a topic the list of them. Throws Error (cli.topic).
int run_help(const CLI::App& app, const std::string& topic);

// A script that completes commands and options: "bash" or "zsh". Throws Error (cli.topic).
int print_completion(const CLI::App& app, const std::string& shell);
