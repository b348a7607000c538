// SPDX-License-Identifier: MIT
// A block is one piece of code (emitter.cpp); it ends with a jump through a table with an entry for
// each word of flash, which leads to the block there, or out.
#include "avr/chip/translator.h"

#if defined(LUCID_TRANSLATOR)
#include "avr/chip/emitter.h"
#endif

#include <algorithm>
#include <cstddef>
#include <mutex>
#include <unordered_map>

namespace lucid::avr {

#if defined(LUCID_TRANSLATOR)

namespace {

const x86::Gp kSaved[] = {x86::rbx, x86::rbp, x86::r12, x86::r13, x86::r14, x86::r15};

}  // namespace

/// Where machine code is written and executed: two mappings of the same memory, so that no page is
/// both. One for the process; what is common to all code is in it.
struct Assembly {
  asmjit::JitRuntime runtime;
  u32 (*enter)(Native* state, const void* const* table, const void* code) = nullptr;
  const void* out = nullptr;

  explicit Assembly(const asmjit::JitAllocator::CreateParams& params) : runtime(&params) {}

  static const std::shared_ptr<Assembly>& shared();

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
};

const std::shared_ptr<Assembly>& Assembly::shared() {
  static const std::shared_ptr<Assembly> kShared = [] {
    asmjit::JitAllocator::CreateParams params;
    params.options = asmjit::JitAllocatorOptions::kUseDualMapping;
    auto assembly = std::make_shared<Assembly>(params);
    const void* const enter = assembly->code([](x86::Assembler& a) {
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
    assembly->out = assembly->code([](x86::Assembler& a) {
      a.mov(field(offsetof(Native, left), 8), kLeft);
      a.add(x86::rsp, 8);
      for (std::size_t i = std::size(kSaved); i-- > 0;) a.pop(kSaved[i]);
      a.ret();
      return true;
    });
    assembly->enter =
        reinterpret_cast<decltype(assembly->enter)>(reinterpret_cast<std::uintptr_t>(enter));
    return assembly;
  }();
  return kShared;
}

Code::~Code() {
  if (entry != nullptr) assembly->runtime.release(entry);
}

struct Translator::Private {
  std::shared_ptr<Assembly> assembly = Assembly::shared();
  const void** table = nullptr;  ///< of each word; the first entry leads out, as do the unknown
  std::size_t table_size = 0;
  u32 page_bytes = 0;
  struct Made {
    std::shared_ptr<const Code> code;
    bool behind_mark;
  };
  std::vector<Made> blocks;
  std::vector<const void*> behind_marks;  ///< by the word of the mark; empty before the first
  std::function<void(const Code&)> on_drop;

  [[nodiscard]] Left run(Native& state, const void* code) const {
    const u32 left = assembly->enter(&state, table, code);
    return {left & ~kPrecise, (left & kPrecise) != 0};
  }
  void drop(const Made& made) {
    if (on_drop) on_drop(*made.code);
    if (made.behind_mark)
      behind_marks[made.code->start] = nullptr;
    else
      table[made.code->start + 1] = assembly->out;
  }
};

Translator::Translator(const void** table, u32 words, u32 page_bytes)
    : p_(std::make_unique<Private>()) {
  p_->table = table;
  p_->table_size = words + 1;
  p_->page_bytes = page_bytes;
}
Translator::~Translator() = default;

bool Translator::works() { return true; }

const void* Translator::out() { return Assembly::shared()->out; }

std::shared_ptr<Code> Translator::translate(Block& block, bool behind_mark, bool counts) {
  if (block.instructions == 0 || p_->assembly->enter == nullptr || p_->assembly->out == nullptr)
    return nullptr;
  auto code = std::make_shared<Code>();
  code->start = block.start;
  code->worst = block.worst;
  code->spans = block.spans;
  code->assembly = p_->assembly;
  if (counts) {
    code->path = block.path;
    for (const Exit& exit : block.exits) code->ways.push_back({exit.executed, exit.departs});
    code->counts = std::make_unique<u64[]>(block.exits.size());
    block.counts = code->counts.get();
  }
  code->entry =
      p_->assembly->code([&](x86::Assembler& a) { return emit(block, a, p_->page_bytes); });
  if (code->entry == nullptr) return nullptr;
  take(code, behind_mark);
  return code;
}

void Translator::take(std::shared_ptr<const Code> code, bool behind_mark) {
  if (behind_mark && p_->behind_marks.empty()) p_->behind_marks.resize(p_->table_size);
  (behind_mark ? p_->behind_marks[code->start] : p_->table[code->start + 1]) = code->entry;
  p_->blocks.push_back({std::move(code), behind_mark});
}

bool Translator::has(u32 word) const { return p_->table[word + 1] != p_->assembly->out; }

void Translator::forget(u32 word, const std::function<void(u32 start)>& dropped) {
  const auto touches = [&](const Private::Made& made) {
    return std::any_of(made.code->spans.begin(), made.code->spans.end(), [&](const auto& span) {
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
    dropped(blocks[i].code->start);
    blocks[i] = std::move(blocks.back());
    blocks.pop_back();
  }
}

void Translator::forget_all(const std::function<void(u32 start)>& dropped) {
  for (const Private::Made& made : p_->blocks) {
    p_->drop(made);
    dropped(made.code->start);
  }
  p_->blocks.clear();
}

void Translator::on_drop(std::function<void(const Code&)> told) { p_->on_drop = std::move(told); }

void Translator::each(const std::function<void(const Code&)>& visit) const {
  for (const Private::Made& made : p_->blocks) visit(*made.code);
}

Translator::Left Translator::run(Native& state, u32 word) const {
  return p_->run(state, p_->table[word + 1]);
}

Translator::Left Translator::run_behind_mark(Native& state, u32 word) const {
  return p_->run(state, p_->behind_marks[word]);
}

#else

struct Assembly {};
Code::~Code() = default;
struct Translator::Private {};
Translator::Translator(const void** /*table*/, u32 /*words*/, u32 /*page_bytes*/) {}
const void* Translator::out() { return nullptr; }
Translator::~Translator() = default;
bool Translator::works() { return false; }
std::shared_ptr<Code> Translator::translate(Block& /*block*/, bool /*behind_mark*/,
                                            bool /*counts*/) {
  return nullptr;
}
void Translator::take(std::shared_ptr<const Code> /*code*/, bool /*behind_mark*/) {}
bool Translator::has(u32 /*word*/) const { return false; }
void Translator::forget(u32 /*word*/, const std::function<void(u32)>& /*dropped*/) {}
void Translator::forget_all(const std::function<void(u32)>& /*dropped*/) {}
void Translator::on_drop(std::function<void(const Code&)> /*told*/) {}
void Translator::each(const std::function<void(const Code&)>& /*visit*/) const {}
Translator::Left Translator::run(Native& /*state*/, u32 word) const { return {word, true}; }
Translator::Left Translator::run_behind_mark(Native& /*state*/, u32 word) const {
  return {word, true};
}

#endif

struct CodeStore::Private {
  mutable std::mutex mutex;
  std::unordered_multimap<u32, std::shared_ptr<const Code>> by_start;
};

CodeStore::CodeStore() : p_(std::make_unique<Private>()) {}
CodeStore::~CodeStore() = default;

std::shared_ptr<const Code> CodeStore::find(u32 start,
                                            const std::function<bool(const Code&)>& fits) const {
  const std::lock_guard<std::mutex> lock(p_->mutex);
  const auto [begin, end] = p_->by_start.equal_range(start);
  const auto found = std::find_if(begin, end, [&](const auto& c) { return fits(*c.second); });
  return found == end ? nullptr : found->second;
}

void CodeStore::add(std::shared_ptr<const Code> code) {
  // Programs that write themselves leave code behind that nobody will want again.
  constexpr std::size_t kMost = 20'000;
  const std::lock_guard<std::mutex> lock(p_->mutex);
  if (p_->by_start.size() >= kMost) p_->by_start.clear();
  const u32 start = code->start;
  p_->by_start.emplace(start, std::move(code));
}

}  // namespace lucid::avr
