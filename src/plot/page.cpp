// SPDX-License-Identifier: MIT
// Signals as one page of HTML, which needs nothing else. src/plot/page has its files; waves.js says
// how the data are written.
#include <fmt/format.h>

#include <cstring>
#include <nlohmann/json.hpp>

#include "lucid/drawing.h"
#include "lucid/plot.h"
#include "plot/html.h"
#include "plot/page_files.h"

namespace lucid {
namespace {

using Json = nlohmann::ordered_json;

/// Seven bits a byte, the lowest first.
void put_number(std::string& out, std::uint64_t number) {
  for (; number >= 0x80; number >>= 7) out += static_cast<char>(number | 0x80U);
  out += static_cast<char>(number);
}

/// The value as a page can hold it: numbers of more than 53 bits lose their lowest digits there.
std::int64_t whole(const Signal& signal, const Sample& sample) {
  const unsigned bits = signal.facts().bits;
  if (!signal.facts().is_signed || bits >= 64) return static_cast<std::int64_t>(sample.value);
  const std::uint64_t shifted = sample.value << (64 - bits);
  return static_cast<std::int64_t>(shifted) >> (64 - bits);
}

void put_samples(std::string& out, const Signal& signal, Json& meta) {
  const auto kind = signal.facts().kind;
  std::uint64_t tick = signal.begin(), count = 0;
  std::int64_t before = 0;
  auto samples = signal.samples();
  while (const auto sample = samples.next()) {
    unsigned code = 0;
    if (sample->state == Sample::State::kFloating) code = 2;
    if (sample->state == Sample::State::kUnknown) code = 3;
    if (code == 0 && kind == Signal::Kind::kLevel) code = sample->value != 0 ? 1 : 0;
    put_number(out, (sample->tick - tick) * 4 + code);
    tick = sample->tick;
    ++count;
    if (!sample->known() || kind == Signal::Kind::kLevel) continue;
    if (kind == Signal::Kind::kReal) {
      const double value = signal.number(*sample);
      char bytes[sizeof value];
      std::memcpy(bytes, &value, sizeof value);
      out.append(bytes, sizeof value);
      continue;
    }
    const std::int64_t value = whole(signal, *sample);
    const auto more = static_cast<std::int64_t>(static_cast<std::uint64_t>(value) -
                                                static_cast<std::uint64_t>(before));
    put_number(out, more < 0 ? ~static_cast<std::uint64_t>(more) * 2 + 1
                             : static_cast<std::uint64_t>(more) * 2);
    before = value;
  }
  meta["count"] = count;
}

const char* word(Format::Kind kind) {
  switch (kind) {
    case Format::Kind::kHex: return "hex";
    case Format::Kind::kBinary: return "binary";
    case Format::Kind::kCharacter: return "character";
    default: return "natural";
  }
}

std::string base64(const std::string& bytes) {
  constexpr std::string_view kDigits =
      "ABCDEFGHIJKLMNOPQRSTUVWXYZabcdefghijklmnopqrstuvwxyz0123456789+/";
  std::string out;
  out.reserve((bytes.size() + 2) / 3 * 4);
  for (std::size_t i = 0; i < bytes.size(); i += 3) {
    std::uint32_t three = 0;
    for (std::size_t k = 0; k < 3; ++k)
      three = three << 8 | (i + k < bytes.size() ? static_cast<unsigned char>(bytes[i + k]) : 0U);
    for (unsigned k = 0; k < 4; ++k)
      out += i + k > bytes.size() ? '=' : kDigits[three >> (18 - 6 * k) & 63U];
  }
  return out;
}

/// What a page knows of a signal; its samples are at an offset.
Json meta_of(const Signal& signal, std::size_t offset) {
  constexpr const char* kKinds[] = {"level", "number", "real", "moment"};
  constexpr const char* kLanes[] = {"level", "boxes", "curve", "moments"};
  const Signal::Facts& facts = signal.facts();
  Json out{{"name", facts.name},
           {"scope", facts.scope},
           {"kind", kKinds[static_cast<unsigned>(facts.kind)]},
           {"lane", kLanes[static_cast<unsigned>(lane_kind(signal))]},
           {"hz", signal.hz()},
           {"begin", signal.begin()},
           {"end", signal.end()},
           {"bits", facts.bits},
           {"format", word(facts.format.kind)},
           {"scale", facts.scale},
           {"unit", facts.unit},
           {"fleeting", facts.fleeting},
           {"offset", offset}};
  for (const auto& [value, name] : facts.names) out["names"][std::to_string(value)] = name;
  return out;
}

}  // namespace

Result<std::string> plot_page(const std::vector<Signal>& signals, const PlotOptions& options) {
  if (signals.empty()) return fail(ErrorCode::kUsage, "there is nothing to plot");
  if (options.from.count >= options.to.count)
    return fail(ErrorCode::kUsage, "there is no time between these moments");
  std::string bytes;
  Json meta{{"from", options.from.count},
            {"to", options.to.count},
            {"lines", Json::array()},
            {"signals", Json::array()}};
  for (const PlotOptions::Line& line : options.lines)
    meta["lines"].push_back({{"at", line.at.count}, {"text", line.text}});
  for (const Signal& signal : signals) {
    Json one = meta_of(signal, bytes.size());
    put_samples(bytes, signal, one);
    meta["signals"].push_back(std::move(one));
  }
  for (std::size_t i = 0; i < signals.size(); ++i) {
    const Signal* places = signals[i].places();
    if (places == nullptr) continue;
    Json one = meta_of(*places, bytes.size());
    one["places_of"] = i;
    put_samples(bytes, *places, one);
    meta["signals"].push_back(std::move(one));
  }
  return page::filled(
      page::page_html,
      {{"@TITLE@", page::for_html(options.title.empty() ? "Signals" : options.title)},
       {"@DETAIL@", page::for_html(options.detail)},
       {"@CSS@", std::string(page::page_css)},
       {"@META@", page::for_script(meta)},
       {"@DATA@", base64(bytes)},
       {"@WAVES@", std::string(page::waves_js)},
       {"@PAGE@", std::string(page::page_js)}});
}

}  // namespace lucid
