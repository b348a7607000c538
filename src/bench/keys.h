// SPDX-License-Identifier: MIT
// Keys: the settings of one table of a bench file, read one by one. The first thing that is wrong
// is kept and reported by finish(), which also refuses keys that nobody asked for.
#ifndef LUCID_BENCH_KEYS_H
#define LUCID_BENCH_KEYS_H

#include <cstdint>
#include <map>
#include <optional>
#include <string>
#include <variant>
#include <vector>

#include "lucid/error.h"

namespace lucid::bench {

struct Setting {
  using Words = std::map<std::string, std::string>;
  std::variant<std::string, std::int64_t, double, bool, std::vector<std::string>, Words> value;
  std::uint32_t line = 0;
};

/// One table: `[chip]` or one of `[[part]]`.
struct Table {
  std::string kind;  ///< for errors: `chip`, `part`
  std::uint32_t line = 0;
  std::map<std::string, Setting> settings;
};

class Keys {
 public:
  Keys(const Table& table, std::string file) : table_(table), file_(std::move(file)) {}

  [[nodiscard]] std::uint32_t line() const { return table_.line; }
  [[nodiscard]] bool has(const std::string& key) const { return table_.settings.count(key) != 0; }
  // A key without a default must be there.
  std::string text(const std::string& key, const std::optional<std::string>& or_else = {});
  std::vector<std::string> texts(const std::string& key);
  /// A table of texts within this one: { D0 = "PD2" }.
  Setting::Words words(const std::string& key);
  std::int64_t number(const std::string& key, std::int64_t least, std::int64_t most,
                      std::optional<std::int64_t> or_else = {});
  /// A time such as "5ms", in microseconds.
  std::uint64_t microseconds(const std::string& key,
                             const std::optional<std::string>& or_else = {});
  std::uint64_t picoseconds(const std::string& key, const std::optional<std::string>& or_else = {});
  std::uint64_t hertz(const std::string& key);
  /// A voltage such as "2.5V", in microvolts.
  std::int32_t microvolts(const std::string& key, const std::optional<std::string>& or_else = {});
  /// One of the words; its place.
  unsigned choice(const std::string& key, const std::vector<std::string>& words,
                  std::optional<unsigned> or_else = {});
  /// Keeps the first of all errors.
  void wrong(const std::string& key, const std::string& what, const std::string& hint = {});
  Result<void> finish();

 private:
  const Setting* find(const std::string& key, bool needed);
  const Table& table_;
  std::string file_;
  std::vector<std::string> asked_;
  std::optional<Error> error_;
};

}  // namespace lucid::bench

#endif  // LUCID_BENCH_KEYS_H
