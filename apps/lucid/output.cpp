// SPDX-License-Identifier: MIT
#include "output.h"

#include <fmt/format.h>
#include <langinfo.h>
#include <unistd.h>

#include <array>
#include <cerrno>
#include <clocale>
#include <cstring>
#include <filesystem>
#include <fstream>

namespace lucid::app {
namespace {

/// The length of the character at the front; 0 if it is not well-formed.
std::size_t character(std::string_view text, std::uint32_t& code) {
  const auto byte = [&](std::size_t i) { return static_cast<unsigned char>(text[i]); };
  const unsigned first = byte(0);
  if (first < 0x80) {
    code = first;
    return 1;
  }
  const std::size_t length = first >= 0xf0 && first < 0xf5   ? 4
                             : first >= 0xe0 && first < 0xf0 ? 3
                             : first >= 0xc2 && first < 0xe0 ? 2
                                                             : 0;
  if (length == 0 || length > text.size()) return 0;
  code = first & (0x7fU >> length);
  for (std::size_t i = 1; i < length; ++i) {
    if ((byte(i) & 0xc0U) != 0x80) return 0;
    code = code << 6 | (byte(i) & 0x3fU);
  }
  constexpr std::array<std::uint32_t, 5> kLeast{0, 0, 0x80, 0x800, 0x10000};
  const bool good = code >= kLeast[length] && code <= 0x10ffff && (code < 0xd800 || code > 0xdfff);
  return good ? length : 0;
}

/// Bytes of a sequence that chooses a colour or weight; 0 if none begins here.
std::size_t colour(std::string_view text) {
  if (text.substr(0, 2) != "\x1b[") return 0;
  const std::size_t end = text.find_first_not_of("0123456789;", 2);
  return end != std::string_view::npos && text[end] == 'm' ? end + 1 : 0;
}

struct StandIn {
  std::uint32_t code;
  std::string_view text;
};
constexpr std::array<StandIn, 18> kStandIns{{{0x258c, "|"},
                                             {0x2212, "-"},
                                             {0x2194, "<->"},
                                             {0x2227, "&"},
                                             {0x2502, ":"},
                                             {0xd7, "x"},
                                             {0x2190, "<-"},
                                             {0x2228, "|"},
                                             {0x2295, "^"},
                                             {0xb7, "."},
                                             {0x2192, "->"},
                                             {0x2026, ".."},
                                             {0x2500, "-"},
                                             {0xb5, "u"},
                                             {0x2013, "-"},
                                             {0x201c, "\""},
                                             {0x201d, "\""},
                                             {0xb0, ""}}};

}  // namespace

std::size_t columns(std::string_view text, bool utf8) {
  std::size_t out = 0;
  while (!text.empty()) {
    if (const std::size_t sequence = colour(text); sequence != 0) {
      text.remove_prefix(sequence);
      continue;
    }
    std::uint32_t code = 0;
    const std::size_t length = character(text, code);
    const auto* found = std::find_if(kStandIns.begin(), kStandIns.end(),
                                     [&](const StandIn& s) { return s.code == code; });
    out += length > 1 && !utf8 && found != kStandIns.end() ? found->text.size() : 1;
    text.remove_prefix(std::max<std::size_t>(length, 1));
  }
  return out;
}

bool locale_has_utf8() {
  static const bool kHas = [] {
    std::setlocale(LC_CTYPE, "");
    return std::string_view(nl_langinfo(CODESET)) == "UTF-8";
  }();
  return kHas;
}

bool is_utf8(std::string_view text) {
  std::uint32_t code = 0;
  while (!text.empty()) {
    const std::size_t length = character(text, code);
    if (length == 0) return false;
    text.remove_prefix(length);
  }
  return true;
}

std::string with_bytes_escaped(std::string_view text) {
  std::string out;
  std::uint32_t code = 0;
  while (!text.empty()) {
    const std::size_t length = character(text, code);
    out += length != 0 ? std::string(text.substr(0, length))
                       : fmt::format("\\x{:02x}", static_cast<unsigned char>(text[0]));
    text.remove_prefix(std::max<std::size_t>(length, 1));
  }
  return out;
}

std::string visible(std::string_view text, bool colours, bool utf8) {
  std::string out;
  out.reserve(text.size());
  const auto escaped = [&](std::string_view bytes) {
    for (const char c : bytes) out += fmt::format("\\x{:02x}", static_cast<unsigned char>(c));
  };
  while (!text.empty()) {
    std::uint32_t code = 0;
    const std::size_t length = std::max<std::size_t>(character(text, code), 1);
    const bool well_formed = character(text, code) != 0;
    if (const std::size_t sequence = colours ? colour(text) : 0; sequence != 0) {
      out += text.substr(0, sequence);
      text.remove_prefix(sequence);
      continue;
    }
    const std::string_view now = text.substr(0, length);
    text.remove_prefix(length);
    const bool control = code < 0x20 || (code >= 0x7f && code < 0xa0);
    const bool shown = code < 0x80 || utf8;
    const auto* stand_in = std::find_if(kStandIns.begin(), kStandIns.end(),
                                        [&](const StandIn& s) { return s.code == code; });
    if (well_formed && (code == '\n' || code == '\t' || (!control && shown)))
      out += now;
    else if (well_formed && stand_in != kStandIns.end())
      out += stand_in->text;
    else
      escaped(now);
  }
  return out;
}

Result<void> write_file(const std::string& name,
                        const std::function<Result<void>(std::ostream&)>& write) {
  std::error_code none;
  const auto behind = std::filesystem::canonical(name, none);  // a link stays one
  const std::string path = none ? name : behind.string();
  const auto failed = [&] {
    return fail(Error{ErrorCode::kIo,
                      std::string("this file cannot be written: ") + std::strerror(errno), path,
                      "is there such a folder, and room in it?"});
  };
  std::error_code unknown;
  const bool plain =
      !std::filesystem::exists(path, unknown) || std::filesystem::is_regular_file(path, unknown);
  const std::string beside = plain ? fmt::format("{}.{}.new", path, getpid()) : path;
  errno = 0;
  {
    std::ofstream out(beside, std::ios::binary);
    Result<void> written = {};
    if (out) written = write(out);
    out.close();
    if (!out) written = failed();
    if (!written) {
      if (plain) std::filesystem::remove(beside, unknown);
      return written;
    }
  }
  if (plain) {
    std::filesystem::rename(beside, path, unknown);
    if (unknown) {
      errno = unknown.value();
      const auto error = failed();
      std::filesystem::remove(beside, unknown);
      return error;
    }
  }
  return {};
}

Result<void> write_file(const std::string& name, const std::string& text) {
  return write_file(name, [&](std::ostream& out) -> Result<void> {
    out << text;
    return {};
  });
}

}  // namespace lucid::app
