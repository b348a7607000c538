// SPDX-License-Identifier: MIT
#include "table.h"

#include <fmt/format.h>

#include <fstream>

#include "output.h"

namespace lucid::app {
namespace {

std::string field(const std::string& text) {
  if (text.find_first_of(",\"\n\r;") == std::string::npos) return text;
  std::string out = "\"";
  for (const char c : text) out += c == '"' ? "\"\"" : std::string(1, c);
  return out + '"';
}

std::string cell(const Value& value) {
  if (value.unknown) return "x";
  switch (value.kind) {
    case Value::Kind::kInteger:
      return value.is_signed ? std::to_string(value.integer)
                             : std::to_string(static_cast<std::uint64_t>(value.integer));
    case Value::Kind::kReal: return fmt::format("{}", value.real);
    case Value::Kind::kTime:
      return fmt::format("{:.12f}", static_cast<double>(value.integer) / 1e12);
    case Value::Kind::kAggregate: return field(value.text);
  }
  return {};
}

}  // namespace

std::vector<std::string> expressions_in(const std::string& list) {
  std::vector<std::string> out(1);
  char quote = 0;
  for (std::size_t i = 0; i < list.size(); ++i) {
    const char c = list[i];
    if (quote == 0 && c == ';') {
      out.emplace_back();
      continue;
    }
    if (quote == 0 && (c == '"' || c == '\''))
      quote = c;
    else if (c == quote)
      quote = 0;
    out.back() += c;
    if (quote != 0 && c == '\\' && i + 1 < list.size()) out.back() += list[++i];
  }
  for (std::string& part : out) {
    part.erase(0, part.find_first_not_of(' '));
    part.erase(part.find_last_not_of(' ') + 1);
  }
  return out;
}

Table::Table(std::string path, const std::vector<std::string>& columns)
    : path_(std::move(path)), head_("time in s") {
  for (const std::string& column : columns) head_ += "," + field(column);
}

void Table::add(Picoseconds now, const std::vector<Value>& values) {
  while (!rows_.empty() && rows_.back().first >= now.count) {
    rows_.pop_back();
    anew_ = anew_ || rows_.size() < written_;
  }
  std::string row =
      fmt::format("{}.{:012}", now.count / 1'000'000'000'000, now.count % 1'000'000'000'000);
  for (const Value& value : values) row += "," + cell(value);
  rows_.emplace_back(now.count, std::move(row));
}

Result<void> Table::write() {
  if (!anew_ && written_ == rows_.size()) return {};
  if (anew_) {
    auto written = write_file(path_, [&](std::ostream& out) -> Result<void> {
      out << head_ << '\n';
      for (const auto& [time, row] : rows_) out << row << '\n';
      return {};
    });
    if (!written) return written;
  } else {
    std::ofstream out(path_, std::ios::app | std::ios::binary);
    for (std::size_t i = written_; i < rows_.size(); ++i) out << rows_[i].second << '\n';
    if (!out.flush())
      return fail(ErrorCode::kIo, "'" + path_ + "' cannot be written", "is there room left?");
  }
  anew_ = false;
  written_ = rows_.size();
  return {};
}

}  // namespace lucid::app
