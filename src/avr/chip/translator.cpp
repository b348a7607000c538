// SPDX-License-Identifier: MIT
// A block is one piece of code (emitter.cpp); it ends with a jump through a table with an entry for
// each word of flash, which leads to the block there, or out.
#include "avr/chip/translator.h"

#if defined(LUCID_TRANSLATOR)
#include "avr/chip/emitter.h"
#endif

#include <algorithm>
#include <cstddef>

namespace lucid::avr {

#if defined(LUCID_TRANSLATOR)

namespace {

const x86::Gp kSaved[] = {x86::rbx, x86::rbp, x86::r12, x86::r13, x86::r14, x86::r15};

}  // namespace

struct Translator::Private {
  asmjit::JitRuntime runtime;
  std::vector<const void*> table;  ///< of each word; the first entry leads out, as do the unknown
  u32 page_bytes = 0;
  u32 (*enter)(Native* state, const void* const* table, const void* code) = nullptr;
  const void* out = nullptr;
  struct Made {
    u32 start;
    std::vector<std::pair<u32, u32>> spans;
    const void* code;
    bool behind_mark;
  };
  std::vector<Made> blocks;
  std::vector<const void*> behind_marks;  ///< by the word of the mark; empty before the first

  [[nodiscard]] Left run(Native& state, const void* code) const {
    const u32 left = enter(&state, table.data(), code);
    return {left & ~kPrecise, (left & kPrecise) != 0};
  }
  template <class Emit>
  const void* code(Emit emit) {
    asmjit::CodeHolder holder;
    // The assembler remembers the first of its errors: nothing is run of what it could not write.
    struct Errors final : asmjit::ErrorHandler {
      void handleError(asmjit::Error error, const char*, asmjit::BaseEmitter*) override {
        any = any || error != asmjit::kErrorOk;
      }
      bool any = false;
    } errors;
    if (holder.init(runtime.environment()) != asmjit::kErrorOk) return nullptr;
    holder.setErrorHandler(&errors);
    x86::Assembler a(&holder);
    if (!emit(a) || errors.any) return nullptr;
    void* made = nullptr;
    if (runtime.add(&made, &holder) != asmjit::kErrorOk) return nullptr;
    return made;
  }
  void drop(const Made& made) {
    if (made.behind_mark)
      behind_marks[made.start] = nullptr;
    else
      table[made.start + 1] = out;
    runtime.release(made.code);
  }
};

Translator::Translator(u32 words, u32 page_bytes) : p_(std::make_unique<Private>()) {
  p_->page_bytes = page_bytes;
  const void* const enter = p_->code([](x86::Assembler& a) {
    for (const x86::Gp& r : kSaved) a.push(r);
    a.sub(x86::rsp, 8);
    a.mov(kState, x86::rdi);
    a.lea(kTable, x86::ptr(x86::rsi, 8));
    a.mov(kData, field(offsetof(Native, data), 8));
    a.mov(kAttributesAt, field(offsetof(Native, attributes), 8));
    a.mov(kLeft, field(offsetof(Native, left), 8));
    a.jmp(x86::rdx);
    return true;
  });
  p_->out = p_->code([](x86::Assembler& a) {
    a.mov(field(offsetof(Native, left), 8), kLeft);
    a.add(x86::rsp, 8);
    for (std::size_t i = std::size(kSaved); i-- > 0;) a.pop(kSaved[i]);
    a.ret();
    return true;
  });
  p_->enter = reinterpret_cast<decltype(p_->enter)>(reinterpret_cast<std::uintptr_t>(enter));
  p_->table.assign(words + 1, p_->out);
}
Translator::~Translator() = default;

bool Translator::works() { return true; }

bool Translator::translate(const Block& block, bool behind_mark) {
  if (block.instructions == 0 || p_->enter == nullptr || p_->out == nullptr) return false;
  const void* const code =
      p_->code([&](x86::Assembler& a) { return emit(block, a, p_->page_bytes); });
  if (code == nullptr) return false;
  if (behind_mark && p_->behind_marks.empty()) p_->behind_marks.resize(p_->table.size());
  (behind_mark ? p_->behind_marks[block.start] : p_->table[block.start + 1]) = code;
  p_->blocks.push_back({block.start, block.spans, code, behind_mark});
  return true;
}

bool Translator::has(u32 word) const { return p_->table[word + 1] != p_->out; }

void Translator::forget(u32 word, const std::function<void(u32 start)>& dropped) {
  const auto touches = [&](const Private::Made& made) {
    return std::any_of(made.spans.begin(), made.spans.end(), [&](const auto& span) {
      return word >= span.first && word <= span.second;  // what lies behind may have ended it
    });
  };
  auto& blocks = p_->blocks;
  for (std::size_t i = 0; i < blocks.size();) {
    if (!touches(blocks[i])) {
      ++i;
      continue;
    }
    p_->drop(blocks[i]);
    dropped(blocks[i].start);
    blocks[i] = std::move(blocks.back());
    blocks.pop_back();
  }
}

void Translator::forget_all(const std::function<void(u32 start)>& dropped) {
  for (const Private::Made& made : p_->blocks) {
    p_->drop(made);
    dropped(made.start);
  }
  p_->blocks.clear();
}

Translator::Left Translator::run(Native& state, u32 word) const {
  return p_->run(state, p_->table[word + 1]);
}

Translator::Left Translator::run_behind_mark(Native& state, u32 word) const {
  return p_->run(state, p_->behind_marks[word]);
}

#else

struct Translator::Private {};
Translator::Translator(u32 /*words*/, u32 /*page_bytes*/) {}
Translator::~Translator() = default;
bool Translator::works() { return false; }
bool Translator::translate(const Block& /*block*/, bool /*behind_mark*/) { return false; }
bool Translator::has(u32 /*word*/) const { return false; }
void Translator::forget(u32 /*word*/, const std::function<void(u32)>& /*dropped*/) {}
void Translator::forget_all(const std::function<void(u32)>& /*dropped*/) {}
Translator::Left Translator::run(Native& /*state*/, u32 word) const { return {word, true}; }
Translator::Left Translator::run_behind_mark(Native& /*state*/, u32 word) const {
  return {word, true};
}

#endif

}  // namespace lucid::avr
