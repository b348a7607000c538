// SPDX-License-Identifier: MIT
// Table: values that are recorded at moments, as a file of comma-separated values.
#ifndef LUCID_APP_TABLE_H
#define LUCID_APP_TABLE_H

#include <string>
#include <utility>
#include <vector>

#include "lucid/error.h"
#include "lucid/time.h"
#include "lucid/value.h"

namespace lucid::app {

/// `a; b`: the expressions of a list.
std::vector<std::string> expressions_in(const std::string& list);

/// Its form is that of `export`, so that it can be imported and drawn.
class Table {
 public:
  Table(std::string path, const std::vector<std::string>& columns);
  [[nodiscard]] const std::string& path() const { return path_; }
  /// A row behind the last. One that is not later takes the place of those from then on: the past
  /// is gone through again, or another future has begun.
  void add(Picoseconds now, const std::vector<Value>& values);
  /// The file comes to hold all rows. Error: kIo.
  Result<void> write();

 private:
  std::string path_, head_;
  std::vector<std::pair<std::uint64_t, std::string>> rows_;
  std::size_t written_ = 0;  ///< rows that the file holds
  bool anew_ = true;         ///< what it holds is wrong
};

}  // namespace lucid::app

#endif  // LUCID_APP_TABLE_H
