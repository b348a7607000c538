// SPDX-License-Identifier: MIT
#include "base/text.h"

#include <sys/stat.h>

#include <algorithm>
#include <cctype>
#include <cerrno>
#include <charconv>
#include <cstring>
#include <fstream>
#include <numeric>

namespace lucid::base {
namespace {

char lower(char c) { return static_cast<char>(std::tolower(static_cast<unsigned char>(c))); }

/// Edit distance with case folded; an exchange of neighbours costs as much as one wrong letter.
std::size_t distance(std::string_view a, std::string_view b) {
  std::vector<std::vector<std::size_t>> d(a.size() + 1, std::vector<std::size_t>(b.size() + 1));
  for (std::size_t i = 0; i <= a.size(); ++i) d[i][0] = i;
  for (std::size_t j = 0; j <= b.size(); ++j) d[0][j] = j;
  for (std::size_t i = 1; i <= a.size(); ++i) {
    for (std::size_t j = 1; j <= b.size(); ++j) {
      const std::size_t change = lower(a[i - 1]) == lower(b[j - 1]) ? 0 : 1;
      d[i][j] = std::min({d[i - 1][j] + 1, d[i][j - 1] + 1, d[i - 1][j - 1] + change});
      if (i > 1 && j > 1 && a[i - 1] == b[j - 2] && a[i - 2] == b[j - 1])
        d[i][j] = std::min(d[i][j], d[i - 2][j - 2] + 1);
    }
  }
  return d[a.size()][b.size()];
}

}  // namespace

std::vector<std::string> similar(std::string_view word, const std::vector<std::string>& candidates,
                                 std::size_t most) {
  if (word.size() > 64) return {};
  const std::size_t limit = 1 + word.size() / 4;
  std::vector<std::pair<std::size_t, std::string>> close;
  for (const std::string& candidate : candidates) {
    if (candidate.size() > word.size() + limit || word.size() > candidate.size() + limit) continue;
    const std::size_t d = distance(word, candidate);
    if (d <= limit) close.emplace_back(d, candidate);
  }
  std::sort(close.begin(), close.end());
  close.erase(std::unique(close.begin(), close.end()), close.end());
  std::vector<std::string> out;
  for (const auto& [d, name] : close) {
    if (out.size() == most || d > close.front().first) break;
    out.push_back(name);
  }
  return out;
}

std::optional<std::uint64_t> parse_unsigned(std::string_view text) {
  int base = 10;
  if (text.size() > 2 && text[0] == '0' && (text[1] == 'x' || text[1] == 'X')) base = 16;
  if (text.size() > 2 && text[0] == '0' && (text[1] == 'b' || text[1] == 'B')) base = 2;
  if (base != 10) text.remove_prefix(2);
  std::uint64_t value = 0;
  const auto [end, error] = std::from_chars(text.data(), text.data() + text.size(), value, base);
  if (text.empty() || error != std::errc{} || end != text.data() + text.size()) return std::nullopt;
  return value;
}

bool equal_ignoring_case(std::string_view a, std::string_view b) {
  return a.size() == b.size() && std::equal(a.begin(), a.end(), b.begin(),
                                            [](char x, char y) { return lower(x) == lower(y); });
}

std::string_view trim(std::string_view text) {
  const auto blank = [](char c) { return std::isspace(static_cast<unsigned char>(c)) != 0; };
  while (!text.empty() && blank(text.front())) text.remove_prefix(1);
  while (!text.empty() && blank(text.back())) text.remove_suffix(1);
  return text;
}

std::string_view file_name(std::string_view path) {
  const std::size_t slash = path.rfind('/');
  return slash == std::string_view::npos ? path : path.substr(slash + 1);
}

std::string in_folder(const std::string& folder, const std::string& path) {
  return path.rfind('/', 0) == 0 ? path : folder + "/" + path;
}

Result<std::vector<std::uint8_t>> read_file(const std::string& path) {
  constexpr off_t kMost = off_t{64} << 20;
  struct stat status {};
  if (stat(path.c_str(), &status) != 0)
    return fail(errno == ENOENT ? ErrorCode::kNotFound : ErrorCode::kIo,
                "cannot read '" + path + "': " + std::strerror(errno),
                errno == ENOENT ? "check the path" : "");
  if (!S_ISREG(status.st_mode)) return fail(ErrorCode::kIo, "'" + path + "' is not a regular file");
  if (status.st_size > kMost)
    return fail(ErrorCode::kIo, "'" + path + "' is larger than 64 MiB", "is it the right file?");
  std::ifstream in(path, std::ios::binary);
  std::vector<std::uint8_t> bytes(static_cast<std::size_t>(status.st_size));
  in.read(reinterpret_cast<char*>(bytes.data()), static_cast<std::streamsize>(bytes.size()));
  if (!in) return fail(ErrorCode::kIo, "cannot read '" + path + "': " + std::strerror(errno));
  return bytes;
}

}  // namespace lucid::base

namespace lucid {

std::string did_you_mean(std::string_view word, const std::vector<std::string>& candidates) {
  const std::vector<std::string> names = base::similar(word, candidates);
  if (names.empty()) return {};
  std::string out = "did you mean " + names[0];
  for (std::size_t i = 1; i < names.size(); ++i) out += " or " + names[i];
  return out + "?";
}

}  // namespace lucid
