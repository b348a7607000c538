// SPDX-License-Identifier: MIT
#include "screen/layout.h"

#include <fmt/format.h>

#include <algorithm>
#include <cctype>
#include <numeric>
#include <optional>
#include <utility>

namespace lucid::app {
namespace {

/// Reads an arrangement.
class ArrangementReader {
 public:
  ArrangementReader(const std::string& text, const std::vector<std::string>& known)
      : text_(text), known_(known) {}

  Result<Arrangement> whole() {
    auto out = group(0);
    if (!out) return out;
    if (at_ < text_.size()) return wrong("'" + text_.substr(at_, 1) + "' is not expected");
    auto panes = out->panes();
    std::sort(panes.begin(), panes.end());
    const auto twice = std::adjacent_find(panes.begin(), panes.end());
    if (twice != panes.end()) return wrong("'" + *twice + "' stands twice");
    return out;
  }

 private:
  [[nodiscard]] Result<Arrangement> wrong(const std::string& what) const {
    return fail(ErrorCode::kUsage, what, "such as (code 3 | (variables / watches) 2) 3 / prompt",
                fmt::format("column {}", at_ + 1));
  }
  void skip() {
    while (at_ < text_.size() && text_[at_] == ' ') ++at_;
  }
  Result<Arrangement> group(unsigned depth) {
    constexpr unsigned kDeepest = 20;
    if (depth > kDeepest) return wrong("groups are more than 20 deep");
    Arrangement out;
    char between = 0;
    for (;;) {
      auto one = part(depth);
      if (!one) return one;
      out.parts.push_back(std::move(*one));
      skip();
      const char c = at_ < text_.size() ? text_[at_] : '\0';
      if (c != '|' && c != '/') break;
      if (between != 0 && c != between) return wrong("put ( ) around one of | and /");
      between = c;
      ++at_;
    }
    if (out.parts.size() == 1) return std::move(out.parts[0]);
    out.beside = between == '|';
    return out;
  }
  Result<Arrangement> part(unsigned depth) {
    skip();
    Arrangement out;
    if (at_ < text_.size() && text_[at_] == '(') {
      ++at_;
      auto inner = group(depth + 1);
      if (!inner) return inner;
      skip();
      if (at_ >= text_.size() || text_[at_] != ')') return wrong("a ) is missing");
      ++at_;
      out = std::move(*inner);
    } else {
      const std::size_t begin = at_;
      while (at_ < text_.size() &&
             (std::isalpha(static_cast<unsigned char>(text_[at_])) != 0 || text_[at_] == '-'))
        ++at_;
      out.pane = text_.substr(begin, at_ - begin);
      if (std::find(known_.begin(), known_.end(), out.pane) == known_.end()) {
        at_ = begin;
        const std::string hint = did_you_mean(out.pane, known_);
        return wrong(out.pane.empty() ? "the name of a pane is missing"
                                      : "there is no pane '" + out.pane + "'" +
                                            (hint.empty() ? "" : "; " + hint));
      }
    }
    skip();
    constexpr unsigned kMostShare = 1000;
    unsigned share = 0;
    bool any = false;
    while (at_ < text_.size() && std::isdigit(static_cast<unsigned char>(text_[at_])) != 0) {
      share = std::min(share * 10 + static_cast<unsigned>(text_[at_] - '0'), kMostShare + 1);
      any = true;
      ++at_;
    }
    if (any && (share == 0 || share > kMostShare)) return wrong("a share is 1 to 1000");
    out.share = any ? share : 1;
    return out;
  }

  const std::string& text_;
  const std::vector<std::string>& known_;
  std::size_t at_ = 0;
};

Least least_of(const Arrangement& a, const std::map<std::string, Least>& least) {
  if (a.parts.empty()) {
    const auto found = least.find(a.pane);
    return found == least.end() ? Least{} : found->second;
  }
  Least out{0, 0};
  for (const Arrangement& part : a.parts) {
    const Least one = least_of(part, least);
    if (a.beside) {
      out.columns += one.columns + (out.columns == 0 ? 0 : 1);
      out.rows = std::max(out.rows, one.rows);
    } else {
      out.rows += one.rows;
      out.columns = std::max(out.columns, one.columns);
    }
  }
  return out;
}

void fold(const Arrangement& a, std::vector<std::string>& folded) {
  for (const std::string& pane : a.panes()) folded.push_back(pane);
}

/// Divides a room by shares; nobody gets less than his least. REQUIRES: it is enough for that.
std::vector<int> divide(int room, const std::vector<unsigned>& shares,
                        const std::vector<int>& least) {
  std::vector<int> out(shares.size(), 0);
  std::vector<bool> fixed(shares.size(), false);
  for (;;) {
    int left = room;
    unsigned total = 0;
    for (std::size_t i = 0; i < shares.size(); ++i)
      if (fixed[i])
        left -= out[i];
      else
        total += shares[i];
    if (total == 0) break;
    int given = 0;
    unsigned taken = 0;
    bool again = false;
    for (std::size_t i = 0; i < shares.size(); ++i) {
      if (fixed[i]) continue;
      taken += shares[i];
      const int end = static_cast<int>(static_cast<std::int64_t>(left) * taken / total);
      out[i] = end - given;
      given = end;
    }
    for (std::size_t i = 0; i < shares.size(); ++i)
      if (!fixed[i] && out[i] < least[i]) {
        out[i] = least[i];
        fixed[i] = again = true;
      }
    if (!again) break;
  }
  return out;
}

void place_in(const Arrangement& a, Area area, const std::map<std::string, Least>& least,
              Placement& out) {
  if (a.parts.empty()) {
    out.panes.push_back({a.pane, area});
    return;
  }
  // The last are folded until the others have room.
  std::size_t count = a.parts.size();
  const int room = a.beside ? area.columns : area.rows;
  const auto needed = [&](std::size_t n) {
    int sum = a.beside ? static_cast<int>(n) - 1 : 0;
    for (std::size_t i = 0; i < n; ++i) {
      const Least one = least_of(a.parts[i], least);
      sum += a.beside ? one.columns : one.rows;
    }
    return sum;
  };
  while (count > 1 && needed(count) > room) fold(a.parts[--count], out.folded);
  std::vector<unsigned> shares;
  std::vector<int> at_least;
  for (std::size_t i = 0; i < count; ++i) {
    const Least one = least_of(a.parts[i], least);
    shares.push_back(a.parts[i].share);
    at_least.push_back(count == 1 ? 0 : a.beside ? one.columns : one.rows);
  }
  const int gaps = a.beside ? static_cast<int>(count) - 1 : 0;
  const auto sizes = divide(room - gaps, shares, at_least);
  int at = a.beside ? area.column : area.row;
  for (std::size_t i = 0; i < count; ++i) {
    Area one = area;
    (a.beside ? one.column : one.row) = at;
    (a.beside ? one.columns : one.rows) = sizes[i];
    if (i != 0) {
      Divider divider{a.beside, one, a.parts[i - 1].panes().back(), a.parts[i].panes().front()};
      if (a.beside)
        divider.area.column = at - 1, divider.area.columns = 1;
      else
        divider.area.rows = 1;
      out.dividers.push_back(std::move(divider));
    }
    place_in(a.parts[i], one, least, out);
    at += sizes[i] + (a.beside ? 1 : 0);
  }
}

}  // namespace

Result<Arrangement> Arrangement::parse(const std::string& text,
                                       const std::vector<std::string>& known) {
  return ArrangementReader(text, known).whole();
}

std::string Arrangement::text() const {
  if (parts.empty()) return pane;
  std::string out;
  for (const Arrangement& part : parts) {
    if (!out.empty()) out += beside ? " | " : " / ";
    out += part.parts.empty() ? part.text() : "(" + part.text() + ")";
    if (part.share != 1) out += " " + std::to_string(part.share);
  }
  return out;
}

std::vector<std::string> Arrangement::panes() const {
  if (parts.empty()) return {pane};
  std::vector<std::string> out;
  for (const Arrangement& part : parts)
    for (std::string& name : part.panes()) out.push_back(std::move(name));
  return out;
}

Arrangement* Arrangement::find(const std::string& name) {
  if (parts.empty()) return pane == name ? this : nullptr;
  for (Arrangement& part : parts)
    if (Arrangement* found = part.find(name); found != nullptr) return found;
  return nullptr;
}

Arrangement* Arrangement::group_of(const Arrangement* wanted) {
  for (Arrangement& part : parts) {
    if (&part == wanted) return this;
    if (Arrangement* found = part.group_of(wanted); found != nullptr) return found;
  }
  return nullptr;
}

bool Arrangement::remove(const std::string& name) {
  for (std::size_t i = 0; i < parts.size(); ++i) {
    if (parts[i].parts.empty() && parts[i].pane == name) {
      parts.erase(parts.begin() + static_cast<std::ptrdiff_t>(i));
    } else if (!parts[i].remove(name)) {
      continue;
    }
    if (parts.size() == 1) {
      Arrangement only = std::move(parts[0]);
      only.share = share;
      *this = std::move(only);
    }
    return true;
  }
  return false;
}

Placement place(const Arrangement& arrangement, Area area,
                const std::map<std::string, Least>& least) {
  Placement out;
  place_in(arrangement, area, least, out);
  return out;
}

bool resize(Arrangement& arrangement, const std::string& pane, bool wide, int cells,
            const Placement& now) {
  const auto size_of = [&](const Arrangement& part) {
    int low = INT32_MAX;
    int high = 0;
    for (const std::string& name : part.panes())
      for (const Placed& placed : now.panes)
        if (placed.pane == name) {
          const Area& a = placed.area;
          low = std::min(low, wide ? a.column : a.row);
          high = std::max(high, wide ? a.column + a.columns : a.row + a.rows);
        }
    return std::max(high - low, 0);
  };
  Arrangement* part = arrangement.find(pane);
  while (part != nullptr) {
    Arrangement* group = arrangement.group_of(part);
    if (group == nullptr) return false;
    if (group->beside == wide) {
      const auto index = static_cast<std::size_t>(part - group->parts.data());
      const std::size_t other = index + 1 < group->parts.size() ? index + 1 : index - 1;
      std::vector<int> sizes;
      for (const Arrangement& one : group->parts) sizes.push_back(size_of(one));
      if (sizes[other] == 0) return false;  // it is folded
      const int most = sizes[other] - 2;
      const int by = std::clamp(cells, -(sizes[index] - 2), most);
      if (by == 0) return false;
      sizes[index] += by;
      sizes[other] -= by;
      // Shares are what they take of the screen now: the same again on one of this size.
      for (std::size_t i = 0; i < sizes.size(); ++i)
        if (sizes[i] > 0) group->parts[i].share = static_cast<unsigned>(sizes[i]);
      return true;
    }
    part = group;
  }
  return false;
}

const std::vector<std::string>& pane_names() {
  static const std::vector<std::string> kNames{
      "code",   "instructions", "variables", "watches",  "callers", "registers",
      "io",     "memory",       "stack",     "pins",     "parts",   "traces",
      "serial", "breakpoints",  "timeline",  "findings", "prompt"};
  return kNames;
}

Settings first_settings() {
  struct Row {
    const char *name, *words, *wide, *narrow;
  };
  constexpr Row kRows[] = {
      {"source", "hunting in source",
       "(code 3 | (variables 3 / watches 2 / callers 2) 2) 7 / (prompt 3 | breakpoints 2) 2",
       "code 11 / (variables | watches) 6 / prompt 4"},
      {"instructions", "hunting in instructions",
       "(instructions 3 | (registers 6 / stack 4 / io 3) 2) 7 / (prompt 3 | callers 2) 2",
       "instructions 10 / registers 7 / prompt 4"},
      {"memory", "memory and stack",
       "(memory 5 | (stack 3 / variables 2) 3) 7 / (code 5 | prompt 3) 4",
       "memory 9 / stack 8 / prompt 4"},
      {"pins", "pins and timing",
       "(code 3 | (pins 3 / parts 2) 2) 5 / traces 4 / (prompt 3 | timeline 2) 2",
       "traces 8 / (pins | parts) 9 / prompt 4"},
      {"serial", "serial dialogue",
       "((code 2 / variables) 3 | serial 2) 7 / (prompt 3 | parts 2) 2",
       "code 8 / serial 9 / prompt 4"},
  };
  Settings out;
  for (const Row& row : kRows)
    out.layouts.push_back({row.name, row.words, *Arrangement::parse(row.wide, pane_names()),
                           *Arrangement::parse(row.narrow, pane_names())});
  for (const ActionFacts& facts : actions()) out.keys[facts.action] = facts.key;
  return out;
}

}  // namespace lucid::app
