// SPDX-License-Identifier: MIT
#include "history.h"

#include <fcntl.h>
#include <sys/stat.h>
#include <unistd.h>

#include <cstdlib>
#include <fstream>
#include <utility>

#include "output.h"

namespace lucid::app {
namespace {
constexpr const char* kFirst = "# commands given to lucid, the latest last";
}  // namespace

History::History() {
  std::string folder;
  if (const char* state = std::getenv("XDG_STATE_HOME"); state != nullptr && *state != '\0')
    folder = state;
  else if (const char* home = std::getenv("HOME"); home != nullptr && *home != '\0')
    folder = std::string(home) + "/.local/state";
  if (folder.empty()) return;
  folder += "/lucid";
  for (std::size_t at = 1; at != std::string::npos;) {
    at = folder.find('/', at + 1);
    mkdir(folder.substr(0, at).c_str(), 0700);
  }
  read(folder + "/commands");
}

void History::add(const std::string& line) {
  lines_.push_back(line);
  if (path_.empty()) return;
  // One write each: what two sessions append stays apart.
  const std::string text = line + "\n";
  const int file = ::open(path_.c_str(), O_WRONLY | O_APPEND | O_CREAT | O_CLOEXEC, 0600);
  if (file < 0) return;
  const bool complete = ::write(file, text.data(), text.size()) == ssize_t(text.size());
  ::close(file);
  if (!complete) path_.clear();
}

void History::read(const std::string& path) {
  constexpr std::size_t kMost = 1000;
  std::ifstream in(path, std::ios::binary);
  std::vector<std::string> lines;
  std::string line;
  bool ours = true;
  while (std::getline(in, line)) {
    ours = ours && (!lines.empty() || line == kFirst) && is_utf8(line) &&
           line.find('\0') == std::string::npos;
    lines.push_back(line);
  }
  if (!ours) return;
  path_ = path;
  const bool is_new = lines.empty();
  if (!is_new) lines.erase(lines.begin());
  if (is_new || lines.size() > 2 * kMost) {  // begun, or cut to its end
    if (lines.size() > kMost)
      lines.erase(lines.begin(), lines.end() - static_cast<std::ptrdiff_t>(kMost));
    std::string text = std::string(kFirst) + "\n";
    for (const std::string& l : lines) text += l + "\n";
    if (!write_file(path, text)) path_.clear();
  }
  lines_ = std::move(lines);
}

}  // namespace lucid::app
