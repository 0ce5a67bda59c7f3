// The guides of docs/guides, as this program carries them.
#pragma once

#include <string>
#include <vector>

struct Guide {
  const char* topic;
  const char* text;  // Markdown
};

const std::vector<Guide>& guides();

// "I have a loop"
std::string title_of(const Guide& guide);
