// SPDX-License-Identifier: MIT
// The text of source files: where it is found, and how old it is.
#ifndef LUCID_SESSION_SOURCES_H
#define LUCID_SESSION_SOURCES_H

#include <map>
#include <string>
#include <vector>

#include "lucid/program.h"

namespace lucid::session {

class Sources {
 public:
  struct Text {
    std::string path;                ///< empty if it was not found
    std::vector<std::string> lines;  ///< without line ends
    std::int64_t changed = 0;        ///< seconds since 1970
  };

  void set_image_path(const std::string& path);
  void add_folder(const std::string& folder);
  /// Read once and kept until the next reload. The folders asked for come first, then where it was
  /// compiled, then the image's folder and the two above it, then the current one.
  const Text& text(const SourceFile& file);
  void forget() { texts_.clear(); }

 private:
  [[nodiscard]] std::vector<std::string> candidates(const SourceFile& file) const;

  std::string image_folder_;
  std::vector<std::string> folders_;
  std::map<std::string, Text> texts_;
};

/// Seconds since 1970 of a file's last change; 0 if it cannot be told.
std::int64_t changed_at(const std::string& path);

}  // namespace lucid::session

#endif  // LUCID_SESSION_SOURCES_H
