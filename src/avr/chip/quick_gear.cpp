// SPDX-License-Identifier: MIT
// The engine's quick gear: which runs are translated, from where they are taken, and what they ask
// of the engine.
#include "avr/chip/counter.h"
#include "avr/chip/engine.h"

namespace lucid::avr {
namespace {

// Machine code of so many runs is kept; then all of it is dropped.
constexpr u32 kMostTranslations = 20'000;

}  // namespace

/// Who asks for calls has translated code note them.
bool Engine::logs_calls() const {
  return machine_.tells_calls_ || (machine_.counter_ != nullptr && machine_.counter_->calls);
}

void Engine::make_translator() {
  if (translator_) return;
  translator_ = std::make_unique<Translator>(table_, fabric_.flash_span / 2,
                                             machine::PagedMemory::kPageBytes);
  native_.attributes = attributes_;
  native_.engine = this;
  native_.load = load_for_run;
  native_.store = store_for_run;
  native_.log = calls_.data();
  if (machine_.counter_ != nullptr)
    translator_->on_drop([this](const Code& code) { machine_.counter_->fold(code); });
  renew_memories();
}

std::vector<u16> Engine::words_of(const std::vector<std::pair<u32, u32>>& spans) const {
  std::vector<u16> out;
  for (const auto& [begin, end] : spans)
    for (u32 word = begin; word <= end; ++word) out.push_back(flash_word(word));
  return out;
}

bool Engine::adopt(u32 word) {
  Slot& slot = code_[word];
  const auto fits = [&](const Code& code) {
    std::size_t at = 0;
    for (const auto& [begin, end] : code.spans)
      for (u32 w = begin; w <= end; ++w)
        if (flash_word(w) != code.words[at++] || code_[w].entry.op == kMarked) return false;
    return true;
  };
  if (slot.entry.op == kMarked || machine_.counter_ != nullptr) return false;
  auto code = machine_.code_store_->find(word, fits);
  if (code == nullptr) return false;
  make_translator();
  ++translations_;
  slot.worst = code->worst;
  slot.translated = true;
  translator_->take(std::move(code), false);
  return true;
}

/// A run has begun at this word often.
void Engine::translate(u32 word) {
  make_translator();
  if (++translations_ > kMostTranslations) {
    translator_->forget_all([this](u32 start) { cool(start); });
    translations_ = 1;
  }
  Block block;
  Slot& slot = code_[word];
  const bool marked = slot.entry.op == kMarked;
  const auto condition = machine_.conditions_.find(word);
  const bool conditional = marked && condition != machine_.conditions_.end();
  // A run that comes back to where it began meets the mark there.
  CodeView view{[&](u32 w) { return translatable(w, w == word && block.instructions == 0); },
                [this](u32 w) { return u32{settled(&code_[w])->entry.length}; },
                {},
                {},
                {},
                fabric_.flash_span / 2 - 1,
                fabric_.device.ram_begin,
                fabric_.target.core().wide_pc(),
                logs_calls()};
  if (conditional) {
    view.passing = &condition->second.passing;
    view.unheld = &condition->second.unheld;
    view.left = &condition->second.left;
  }
  met_mark_ = false;
  make_block(block, view, word);
  const bool counts = machine_.counter_ != nullptr;
  const auto code = translator_->translate(block, marked && !conditional, counts);
  slot.translated = code != nullptr;
  if (code != nullptr && !marked && !met_mark_ && !counts) {
    code->words = words_of(code->spans);
    machine_.code_store_->add(code);
  }
  if (marked && !conditional)
    slot.worst_behind = slot.translated ? static_cast<u8>(block.worst) : u8{0};
  else
    slot.worst = slot.translated ? block.worst : kNoRun;
}

/// A run has ended at a mark. If translated code may pass it, the next one need not.
void Engine::warm_mark(u32 word) {
  if (!code_[word].translated && machine_.translate_after() > 0 &&
      machine_.conditions_.count(word) != 0)
    translate(word);
}

/// What a run may go through; at its start also what a breakpoint stands for.
std::optional<Entry> Engine::translatable(u32 word, bool starts) {
  const u32 words = fabric_.flash_span / 2;
  if (word >= words) return std::nullopt;
  if (code_[word].entry.op == kUndecoded) decode_at(word);
  // Loops that count or wait are looked at where they begin.
  if (!starts && code_[word].heat >= kWaits) return std::nullopt;
  Entry entry = code_[word].entry;
  met_mark_ = met_mark_ || entry.op == kMarked;
  if (starts && entry.op == kMarked) {
    entry = decoded(word);
    if (entry.op < kOpCount && result_is_undefined(entry)) return std::nullopt;
  }
  if (entry.op >= kOpCount || word + entry.length > words) return std::nullopt;
  return entry;
}

void Engine::cool(u32 word) {
  Slot& slot = code_[word];
  slot.translated = false;
  slot.heat = 0;
  slot.worst_behind = 0;
  const bool quick = machine_.translate_after() > 0 && Translator::works();
  slot.worst = quick && slot.entry.op != kMarked ? 0 : kNoRun;
}

/// Translated runs that rest on this word.
void Engine::forget_run(u32 word) {
  if (translator_) translator_->forget(word, [this](u32 start) { cool(start); });
  cool(word);
  // A mark within a loop kept it from being seen to wait; that may be over.
  for (auto& [begin, loop] : waits_) loop.failures = 0;
  constexpr u32 kLongest = 8;  // words of a CountedLoop
  for (u32 before = 1; before < kLongest && before <= word; ++before)
    if (code_[word - before].heat == kCounted) cool(word - before);
}

/// Where the memories are; they may have been copied before a write.
void Engine::renew_memories() {
  const machine::PagedMemory& flash = machine_.world_.flash;
  flash_pages_.clear();
  for (u32 a = 0; a < fabric_.flash_span; a += machine::PagedMemory::kPageBytes)
    flash_pages_.push_back(flash.page_of(a % flash.size()));
  native_.flash_pages = flash_pages_.data();
  native_.data = machine_.world_.data.data();
}

u32 Engine::load_for_run(void* engine, u32 address, u32 word) {
  Engine& self = *static_cast<Engine*>(engine);
  self.begin_access(word);
  const u8 value = self.slow_load(static_cast<u16>(address));
  self.end_access();
  return value;
}

void Engine::store_for_run(void* engine, u32 address, u32 word, u32 value, u32 mask) {
  Engine& self = *static_cast<Engine*>(engine);
  self.begin_access(word);
  const auto at = static_cast<u16>(address);
  if ((self.attributes_[at] & kWatchWrite) != 0)
    self.note_store(at, static_cast<u8>(value), static_cast<u8>(mask));
  self.slow_store(at, static_cast<u8>(value), static_cast<u8>(mask));
  self.end_access();
}

/// What translated code has noted of calls, before time or deadline change.
void Engine::take_calls() {
  if (machine_.counter_ != nullptr && machine_.counter_->calls)
    machine_.counter_->take(calls_.data(), native_.log, deadline_);
  machine::Tap& tap = machine_.outputs_.tap;
  if (machine_.tells_calls_ && tap.wants(machine::EventKind::kCall))
    for (const CallRecord* r = calls_.data(); r != native_.log; ++r)
      tap.put({machine_.world_.tick_at(r->cycle(deadline_)),
               r->returns() ? machine::EventKind::kLeave : machine::EventKind::kCall, 2 * r->word,
               r->sp, 2 * r->from, false});
  native_.log = calls_.data();
}

void Engine::begin_access(u32 word) {
  if (native_.log != calls_.data()) take_calls();
  cpu_.now = deadline_ - static_cast<u64>(native_.left);
  stop_.last_pc = 2 * word;
  if (machine_.counter_ != nullptr) cpu_.pc = word;  // of whom an interrupt waits
}
void Engine::end_access() { native_.left = static_cast<std::int64_t>(deadline_ - cpu_.now); }

}  // namespace lucid::avr
