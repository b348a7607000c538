// SPDX-License-Identifier: MIT
#include "session/sources.h"

#include <sys/stat.h>

#include "base/text.h"

namespace lucid::session {

std::int64_t changed_at(const std::string& path) {
  struct stat status {};
  return stat(path.c_str(), &status) == 0 ? std::int64_t{status.st_mtime} : 0;
}

void Sources::set_image_path(const std::string& path) {
  const std::size_t slash = path.rfind('/');
  image_folder_ = slash == std::string::npos ? "." : path.substr(0, slash);
  forget();
}

void Sources::add_folder(const std::string& folder) {
  folders_.push_back(folder);
  forget();
}

std::vector<std::string> Sources::candidates(const SourceFile& file) const {
  std::vector<std::string> out;
  const bool absolute = !file.path.empty() && file.path[0] == '/';
  for (const std::string& folder : folders_) {
    // FROM=TO: what the compiler called FROM is TO now.
    if (const std::size_t equals = folder.find('='); equals != std::string::npos) {
      const std::string full = absolute ? file.path : file.directory + "/" + file.path;
      if (full.compare(0, equals, folder, 0, equals) == 0)
        out.push_back(folder.substr(equals + 1) + full.substr(equals));
      continue;
    }
    out.push_back(folder + "/" + file.path);
    out.push_back(folder + "/" + file.name);
  }
  // A build may say /proc/self/cwd for its folder; that is ours now, not the compiler's.
  std::string path = file.path;
  const std::string self = "/proc/self/cwd/";
  const bool anonymous = path.rfind(self, 0) == 0;
  if (anonymous) path = path.substr(self.size());
  if (absolute && !anonymous) out.push_back(path);
  if (!absolute && !file.directory.empty() && file.directory != "/proc/self/cwd")
    out.push_back(file.directory + "/" + path);
  for (const char* up : {"", "/..", "/../.."}) {
    if (!absolute || anonymous) out.push_back(image_folder_ + up + "/" + path);
    out.push_back(image_folder_ + up + "/" + file.name);
  }
  if (!absolute || anonymous) out.push_back(path);
  return out;
}

const Sources::Text& Sources::text(const SourceFile& file) {
  const std::string key = file.directory + "\n" + file.path;
  if (const auto found = texts_.find(key); found != texts_.end()) return found->second;
  Text& text = texts_[key];
  for (const std::string& path : candidates(file)) {
    auto bytes = base::read_file(path);
    if (!bytes) continue;
    text.path = path;
    text.changed = changed_at(path);
    std::string line;
    for (const std::uint8_t byte : *bytes) {
      if (byte == '\n') {
        text.lines.push_back(std::move(line));
        line.clear();
      } else if (byte != '\r') {
        line += static_cast<char>(byte);
      }
    }
    if (!line.empty()) text.lines.push_back(std::move(line));
    break;
  }
  return text;
}

}  // namespace lucid::session
