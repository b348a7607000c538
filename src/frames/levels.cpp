// SPDX-License-Identifier: MIT
// The levels that a reader of source sees: frames, bodies that are inlined in them, and functions
// that have jumped on.
#include <algorithm>
#include <functional>
#include <utility>

#include "frames/callers.h"

namespace lucid::frames {
namespace {

/// The tail calls that lead from one function to another; nullopt if there is no way, or several.
std::optional<std::vector<const CallSite*>> tail_calls(const Program& program, std::uint32_t from,
                                                       std::uint32_t to) {
  std::optional<std::vector<const CallSite*>> found;
  unsigned ways = 0;
  unsigned looked = 0;
  std::vector<const CallSite*> path;
  const std::function<void(std::uint32_t)> search = [&](std::uint32_t at) {
    const Function* function = program.function_at(at);
    if (function == nullptr || path.size() >= kMostTailCalls || ++looked > 1000) return;
    for (const CallSite* site : program.tail_calls_in(*function)) {
      const bool again = std::find(path.begin(), path.end(), site) != path.end();
      if (!site->callee || again) continue;
      path.push_back(site);
      if (*site->callee == to) {
        ++ways;
        found = path;
      } else {
        search(*site->callee);
      }
      path.pop_back();
    }
  };
  search(from);
  return ways == 1 ? found : std::nullopt;
}

/// The levels between a frame and the call that led to it: functions that jumped on.
void add_left_levels(const Program& program, const Frame& frame, const Frame& caller,
                     std::vector<Frame>& out) {
  const CallSite* site = caller.at_call ? program.call_site_at(caller.pc) : nullptr;
  if (site == nullptr || !site->callee || frame.function == nullptr || frame.interrupt ||
      *site->callee == frame.function->begin)
    return;
  const auto path = tail_calls(program, *site->callee, frame.function->begin);
  if (!path) return;
  for (auto jump = path->rbegin(); jump != path->rend(); ++jump) {
    Frame left;
    left.pc = (*jump)->returns_to;
    left.at_call = true;
    left.left = true;
    left.cfa = frame.cfa;
    left.lost = ~std::uint64_t{0};
    left.function = program.function_at(look_address(left));
    out.push_back(std::move(left));
  }
}

}  // namespace

std::vector<Frame> call_levels(const Program& program, const machine::Machine& machine,
                               Flows& flows, std::size_t most) {
  std::vector<Frame> out;
  const std::vector<Frame> frames = unwind(program, machine, flows, most);
  for (std::size_t i = 0; i < frames.size(); ++i) {
    Frame frame = frames[i];
    if (i > 0) add_left_levels(program, frames[i - 1], frame, out);
    const InlinedCall* inner = nullptr;
    for (const InlinedCall* call : program.inlined_at(look_address(frame))) {
      Frame level = frame;
      level.inlined = call;
      level.inner = std::exchange(inner, call);
      level.interrupt = false;
      out.push_back(std::move(level));
    }
    frame.inner = inner;
    out.push_back(std::move(frame));
  }
  return out;
}

}  // namespace lucid::frames

namespace lucid {

std::string callers_end_text(CallersEnd end) {
  switch (end) {
    case CallersEnd::kNone: return "it goes on";
    case CallersEnd::kStart: return "the program begins here";
    case CallersEnd::kTaskBegins: return "nothing has called this: a task begins here";
    case CallersEnd::kNoCall:
      return "no call stands before the return address: a task begins here, or the stack is "
             "damaged";
    case CallersEnd::kOtherCall:
      return "the call before the return address leads elsewhere: the stack may be damaged";
    case CallersEnd::kNoFunction: return "the return address is in no function";
    case CallersEnd::kNoInstruction: return "no instruction begins at the interrupted address";
    case CallersEnd::kNoFrame:
      return "where its return address lies cannot be told at this instruction";
    case CallersEnd::kNotOnStack: return "the stack holds no further return address";
    case CallersEnd::kTooMany: return "there are more";
  }
  return {};
}

}  // namespace lucid
