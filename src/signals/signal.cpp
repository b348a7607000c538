// SPDX-License-Identifier: MIT
// Changes are kept in blocks, each as the time since the last one and the value. Words of 16 bits
// hold 15 of them and whether more follow: a level that changes within 8191 ticks takes two bytes.
#include "lucid/signal.h"

#include <fcntl.h>
#include <fmt/format.h>
#include <sys/stat.h>
#include <unistd.h>

#include <algorithm>
#include <array>
#include <cerrno>
#include <cstring>
#include <limits>
#include <utility>

namespace lucid {

using State = Sample::State;

struct Signal::Block {
  static constexpr unsigned kMost = 256;
  Sample before;  ///< what holds where it begins
  std::uint64_t first = 0, last = 0;
  unsigned count = 0;
  std::vector<std::uint8_t> bytes;  ///< empty if they are in a file
  std::shared_ptr<const SignalFile> file;
  std::uint64_t offset = 0;
  std::uint32_t file_bytes = 0;
  double least = std::numeric_limits<double>::infinity(), most = -least;
  bool unknown = false;
  Sample end;  ///< the last one
};

namespace {

/// The first word has room for the state, and for a level.
constexpr unsigned kSpare = 2;

std::size_t value_bytes(const Signal::Facts& facts) {
  switch (facts.kind) {
    case Signal::Kind::kLevel: return 0;
    case Signal::Kind::kReal: return 8;
    case Signal::Kind::kNumber:
    case Signal::Kind::kMoment: break;
  }
  return (facts.bits + 7U) / 8U;
}

/// 0 and 1: a known level, or a known number; 2 floats, 3 is unknown.
unsigned code_of(Signal::Kind kind, const Sample& sample) {
  if (sample.state == State::kFloating) return 2;
  if (sample.state == State::kUnknown) return 3;
  return kind == Signal::Kind::kLevel ? static_cast<unsigned>(sample.value & 1U) : 0;
}

Sample decoded(const Signal::Facts& facts, const std::vector<std::uint8_t>& bytes, std::size_t& at,
               std::uint64_t tick) {
  const auto word = [&] {
    const unsigned out = bytes[at] | bytes[at + 1] << 8U;
    at += 2;
    return out;
  };
  constexpr unsigned kMore = 0x8000;
  unsigned w = word();
  const unsigned code = w & ((1U << kSpare) - 1);
  std::uint64_t delta = (w & (kMore - 1)) >> kSpare;
  for (unsigned shift = 15 - kSpare; (w & kMore) != 0; shift += 15) {
    w = word();
    delta |= std::uint64_t{w & (kMore - 1)} << shift;
  }
  Sample out;
  out.tick = tick + delta;
  if (code == 2) out.state = State::kFloating;
  if (code == 3) out.state = State::kUnknown;
  if (!out.known()) return out;
  if (facts.kind == Signal::Kind::kLevel) {
    out.value = code;
    return out;
  }
  for (std::size_t i = 0; i < value_bytes(facts); ++i)
    out.value |= std::uint64_t{bytes[at++]} << (8 * i);
  return out;
}

}  // namespace

Signal::Signal(Facts facts, std::uint64_t hz, std::uint64_t begin)
    : facts_(std::make_shared<const Facts>(std::move(facts))),
      hz_(hz),
      begin_(begin),
      end_(begin) {}

void Signal::encode(const Sample& sample) {
  if (open_ == nullptr) {
    open_ = std::make_shared<Block>();
    open_->before = blocks_.empty() ? Sample{begin_, 0, State::kUnknown} : blocks_.back()->end;
    open_->first = sample.tick;
    open_->end.tick = open_->last = sample.tick;
  } else if (open_.use_count() > 1) {  // a copy of the signal has it, too
    open_ = std::make_shared<Block>(*open_);
  }
  Block& block = *open_;
  std::array<std::uint8_t, 10 + sizeof sample.value> bytes;  // at most five words in front
  std::uint8_t* to = bytes.data();
  const auto put_word = [&to](std::uint64_t word, bool more) {
    *to++ = static_cast<std::uint8_t>(word);
    *to++ = static_cast<std::uint8_t>(word >> 8U | (more ? 0x80U : 0));
  };
  std::uint64_t delta = sample.tick - block.last;
  const std::uint64_t mask = (1U << (15 - kSpare)) - 1;
  const std::uint64_t word = (delta & mask) << kSpare | code_of(facts_->kind, sample);
  delta >>= 15 - kSpare;
  put_word(word, delta != 0);
  while (delta != 0) {
    const std::uint64_t part = delta & 0x7fffU;
    delta >>= 15;
    put_word(part, delta != 0);
  }
  if (sample.known()) {
    std::uint64_t value = sample.value;
    for (std::size_t left = value_bytes(*facts_); left != 0; --left, value >>= 8U)
      *to++ = static_cast<std::uint8_t>(value);
    const double number = this->number(sample);
    block.least = std::min(block.least, number);
    block.most = std::max(block.most, number);
  } else {
    block.unknown = true;
  }
  block.bytes.insert(block.bytes.end(), bytes.data(), to);
  block.last = sample.tick;
  block.end = sample;
  if (++block.count == Block::kMost) close_block();
}

void Signal::close_block() {
  open_->bytes.shrink_to_fit();
  block_bytes_ += bytes_of(*open_);
  blocks_.push_back(std::exchange(open_, nullptr));
}

/// The one before the last, or the last if that one has been taken back.
const Sample* Signal::in_blocks() const {
  if (open_ != nullptr) return &open_->end;
  return blocks_.empty() ? nullptr : &blocks_.back()->end;
}

void Signal::add(Sample sample) {
  const bool moment = facts_->kind == Kind::kMoment;
  if (facts_->kind != Kind::kReal && facts_->bits < 64)
    sample.value &= (std::uint64_t{1} << facts_->bits) - 1;
  end_ = std::max(end_, sample.tick);
  if (!moment && last_ && last_->tick == sample.tick) {  // it was for no time
    last_.reset();
    --changes_;
  }
  const Sample* holds = last_ ? &*last_ : in_blocks();
  if (!moment && holds != nullptr && holds->same_as(sample)) return;
  if (last_) encode(*last_);
  last_ = sample;
  ++changes_;
}

void Signal::end_at(std::uint64_t tick) { end_ = std::max(end_, tick); }

void Signal::cut_at(std::uint64_t tick) {
  if (tick >= end_) return;
  Signal kept(*facts_, hz_, begin_);
  kept.facts_ = facts_;
  kept.discarded_ = discarded_;
  kept.changes_ = 0;
  for (const auto& block : blocks_) {
    if (block->last > tick) break;
    kept.blocks_.push_back(block);
    kept.in_file_ += block->file != nullptr ? 1 : 0;
    kept.file_bytes_ += block->file_bytes;
    kept.block_bytes_ += bytes_of(*block);
    kept.changes_ += block->count;
  }
  Samples rest = samples();
  rest.block_ = kept.blocks_.size();
  while (const auto sample = rest.from_blocks()) {
    if (sample->tick > tick) break;
    kept.add(*sample);
  }
  kept.end_ = std::max(begin_, tick);
  *this = std::move(kept);
}

bool Signal::discard_oldest() {
  if (blocks_.empty()) return false;
  const Block& oldest = *blocks_.front();
  discarded_ += oldest.count;
  changes_ -= oldest.count;
  begin_ = blocks_.size() > 1 ? blocks_[1]->first
           : open_ != nullptr ? open_->first
           : last_            ? last_->tick
                              : end_;
  block_bytes_ -= bytes_of(oldest);
  file_bytes_ -= oldest.file_bytes;
  in_file_ -= oldest.file != nullptr ? 1 : 0;
  blocks_.pop_front();
  return true;
}

Result<bool> Signal::put_oldest_into(const std::shared_ptr<SignalFile>& file) {
  if (in_file_ == blocks_.size()) return false;
  auto& oldest = blocks_[in_file_];
  const auto offset = file->append(oldest->bytes);
  if (!offset) return fail(offset.error());
  Block outside = *oldest;
  outside.file = file;
  outside.offset = *offset;
  outside.file_bytes = static_cast<std::uint32_t>(oldest->bytes.size());
  outside.bytes = {};
  block_bytes_ -= bytes_of(*oldest);
  block_bytes_ += bytes_of(outside);
  file_bytes_ += outside.file_bytes;
  oldest = std::make_shared<const Block>(std::move(outside));
  ++in_file_;
  return true;
}

// The file
// -----------------------------------------------------------------------------------------

SignalFile::SignalFile(std::string path, int descriptor)
    : path_(std::move(path)), descriptor_(descriptor) {}

SignalFile::~SignalFile() { ::close(descriptor_); }

Result<std::shared_ptr<SignalFile>> SignalFile::make(const std::string& path) {
  constexpr unsigned kMode = 0644;
  // What is there may hold what other signals have put into it.
  struct stat there {};
  if (::lstat(path.c_str(), &there) == 0 && S_ISREG(there.st_mode)) ::unlink(path.c_str());
  const int descriptor = ::open(path.c_str(), O_RDWR | O_CREAT | O_TRUNC | O_CLOEXEC, kMode);
  if (descriptor < 0)
    return fail(ErrorCode::kIo, fmt::format("cannot write '{}': {}", path, std::strerror(errno)),
                "choose another folder");
  return std::shared_ptr<SignalFile>(new SignalFile(path, descriptor));
}

Result<std::uint64_t> SignalFile::append(const std::vector<std::uint8_t>& bytes) {
  for (std::size_t done = 0; done < bytes.size();) {
    const ssize_t n = ::pwrite(descriptor_, bytes.data() + done, bytes.size() - done,
                               static_cast<off_t>(bytes_ + done));
    if (n < 0 && errno == EINTR) continue;
    if (n <= 0)
      return fail(
          ErrorCode::kIo,
          fmt::format("cannot write '{}': {}", path_, std::strerror(n < 0 ? errno : ENOSPC)),
          "make room there");
    done += static_cast<std::size_t>(n);
  }
  return std::exchange(bytes_, bytes_ + bytes.size());
}

bool SignalFile::read(std::uint64_t offset, std::vector<std::uint8_t>& bytes) const {
  for (std::size_t done = 0; done < bytes.size();) {
    const ssize_t n = ::pread(descriptor_, bytes.data() + done, bytes.size() - done,
                              static_cast<off_t>(offset + done));
    if (n < 0 && errno == EINTR) continue;
    if (n <= 0) return false;
    done += static_cast<std::size_t>(n);
  }
  return true;
}

std::size_t Signal::bytes_of(const Block& block) {
  constexpr std::size_t kAround = 64;  // what the blocks of memory take beside
  return sizeof block + block.bytes.size() + kAround;
}

std::size_t Signal::bytes() const {
  return sizeof *this + block_bytes_ + (open_ != nullptr ? open_->bytes.size() : 0);
}

// Looking
// -----------------------------------------------------------------------------------------

std::optional<Sample> Signal::Samples::from_blocks() {
  for (;;) {
    const std::size_t closed = signal_->blocks_.size();
    if (block_ > closed || (block_ == closed && signal_->open_ == nullptr)) {
      if (std::exchange(last_given_, true)) return std::nullopt;
      return signal_->last_;
    }
    const Block& block = block_ < closed ? *signal_->blocks_[block_] : *signal_->open_;
    if (at_ == 0) {
      left_ = block.count;
      now_.tick = block.first;
      read_.resize(block.file_bytes);
      if (block.file != nullptr && !block.file->read(block.offset, read_)) {
        ++block_;
        return Sample{block.first, 0, State::kUnknown};  // somebody has taken it away
      }
    }
    if (left_ != 0) {
      --left_;
      const auto& bytes = block.file != nullptr ? read_ : block.bytes;
      now_ = decoded(*signal_->facts_, bytes, at_, now_.tick);
      return now_;
    }
    ++block_;
    at_ = 0;
  }
}

std::optional<Sample> Signal::Samples::next() {
  const bool moments = signal_->facts_->kind == Kind::kMoment;
  if (!std::exchange(began_, true)) {
    // What holds at the beginning, and the first one behind it.
    std::optional<Sample> holds;
    while ((ahead_ = from_blocks()) && (moments ? ahead_->tick < from_ : ahead_->tick <= from_))
      holds = ahead_;
    if (!moments) {
      Sample first = holds.value_or(Sample{from_, 0, State::kUnknown});
      first.tick = std::max(from_, signal_->begin_);
      if (holds || !ahead_ || ahead_->tick > first.tick)
        if (first.tick <= std::min(to_, signal_->end_)) return first;
    }
  }
  if (!ahead_ || ahead_->tick > to_) return std::nullopt;
  const auto out = ahead_;
  ahead_ = from_blocks();
  return out;
}

Signal::Samples Signal::samples(std::uint64_t from, std::uint64_t to) const {
  Samples out;
  out.signal_ = this;
  out.from_ = std::max(from, begin_);
  out.to_ = to;
  // The last block that begins at or before `from`, or the one before it: what holds there is in
  // it.
  const auto behind = std::upper_bound(
      blocks_.begin(), blocks_.end(), out.from_,
      [](std::uint64_t tick, const std::shared_ptr<const Block>& b) { return tick <= b->first; });
  out.block_ = static_cast<std::size_t>(behind - blocks_.begin());
  if (out.block_ != 0) --out.block_;
  return out;
}

Sample Signal::at(std::uint64_t tick) const {
  if (tick < begin_ || tick > end_) return {tick, 0, State::kUnknown};
  if (last_ && last_->tick <= tick) return *last_;
  Sample out{begin_, 0, State::kUnknown};
  Samples all = samples(facts_->kind == Kind::kMoment ? 0 : tick, tick);
  while (const auto sample = all.next()) out = *sample;
  return out;
}

std::vector<Signal::Column> Signal::columns(std::uint64_t from, std::uint64_t to,
                                            unsigned count) const {
  std::vector<Column> out(count);
  const bool moments = facts_->kind == Kind::kMoment;
  const auto bound = [&](unsigned i) {
    const auto span = static_cast<unsigned __int128>(to - from);
    return from + static_cast<std::uint64_t>(span * i / count);
  };
  const auto take = [&](Column& column, const Sample& sample) {
    if (!sample.known()) {
      column.unknown = true;
      return;
    }
    const double number = this->number(sample);
    column.least = column.known ? std::min(column.least, number) : number;
    column.most = column.known ? std::max(column.most, number) : number;
    column.known = true;
  };
  const auto inside = [&](std::uint64_t tick) { return tick >= begin_ && tick <= end_; };
  Samples samples = this->samples(from, to);
  Sample holds{from, 0, State::kUnknown};
  std::optional<Sample> ahead = samples.from_blocks();
  for (; ahead && (moments ? ahead->tick < from : ahead->tick <= from);
       ahead = samples.from_blocks())
    holds = *ahead;
  std::uint64_t at_begin = 0;  // changes at the beginning of columns too narrow for a tick
  for (unsigned i = 0; i < count; ++i) {
    Column& column = out[i];
    const std::uint64_t begin = bound(i), end = bound(i + 1);
    for (; !moments && ahead && ahead->tick <= begin; ahead = samples.from_blocks()) {
      holds = *ahead;
      ++at_begin;
    }
    if (end > begin) column.changes += std::exchange(at_begin, 0);
    column.first = inside(begin) && !moments ? holds : Sample{begin, 0, State::kUnknown};
    if (!moments) take(column, column.first);
    for (; ahead && ahead->tick < end; ahead = samples.from_blocks()) {
      const Block* block =
          samples.block_ < blocks_.size() ? blocks_[samples.block_].get() : nullptr;
      if (block == nullptr || samples.left_ + 1 != block->count || block->last >= end) {
        holds = *ahead;
        ++column.changes;
        take(column, holds);
        continue;
      }
      // A block that lies within the column as a whole need not be opened.
      if (block->least <= block->most) {
        column.least = column.known ? std::min(column.least, block->least) : block->least;
        column.most = column.known ? std::max(column.most, block->most) : block->most;
        column.known = true;
      }
      column.unknown = column.unknown || block->unknown;
      column.changes += block->count;
      holds = block->end;
      ++samples.block_;
      samples.at_ = samples.left_ = 0;
    }
    const std::uint64_t behind = std::max(begin, end - 1);
    column.last = inside(behind) ? holds : Sample{behind, 0, State::kUnknown};
    if (end_ < end || begin < begin_) column.unknown = true;
  }
  return out;
}

Signal Signal::called(const std::string& name) const {
  Facts facts = *facts_;
  facts.name = name;
  Signal out = *this;
  out.facts_ = std::make_shared<const Facts>(std::move(facts));
  return out;
}

Signal Signal::naming(std::map<std::uint64_t, std::string> names) const {
  Facts facts = *facts_;
  facts.names = std::move(names);
  Signal out = *this;
  out.facts_ = std::make_shared<const Facts>(std::move(facts));
  return out;
}

Signal Signal::with_places(Signal places) const {
  Signal out = *this;
  out.places_ = std::make_shared<const Signal>(std::move(places));
  return out;
}

Signal Signal::moved(std::uint64_t ticks) const {
  if (ticks == 0) return *this;
  Signal out(*facts_, hz_, begin_ + ticks);
  Samples all = samples();
  all.block_ = 0;
  while (auto sample = all.from_blocks()) {
    sample->tick += ticks;
    out.add(*sample);
  }
  out.end_at(end_ + ticks);
  if (places_ != nullptr) out.places_ = std::make_shared<const Signal>(places_->moved(ticks));
  return out;
}

double Signal::number(const Sample& sample) const {
  if (facts_->kind == Kind::kReal) {
    double out = 0;
    std::memcpy(&out, &sample.value, sizeof out);
    return out;
  }
  const unsigned bits = facts_->bits;
  if (!facts_->is_signed || bits == 0) return static_cast<double>(sample.value) * facts_->scale;
  const std::uint64_t shifted = bits >= 64 ? sample.value : sample.value << (64 - bits);
  const std::int64_t value = static_cast<std::int64_t>(shifted) >> (bits >= 64 ? 0 : 64 - bits);
  return static_cast<double>(value) * facts_->scale;
}

std::string Signal::text(const Sample& sample) const {
  if (sample.state == State::kFloating) return "floating";
  if (sample.state == State::kUnknown) return "unknown";
  if (const auto name = facts_->names.find(sample.value); name != facts_->names.end())
    return name->second;
  if (facts_->kind == Kind::kLevel) return sample.value != 0 ? "high" : "low";
  const std::string unit = facts_->unit.empty() ? "" : " " + facts_->unit;
  if (facts_->kind == Kind::kReal || facts_->scale != 1)
    return fmt::format("{:.6g}{}", number(sample), unit);
  const unsigned bits = std::max<unsigned>(facts_->bits, 1);
  switch (facts_->format.kind) {
    case Format::Kind::kHex: return fmt::format("{:#0{}x}", sample.value, 2 + (bits + 3) / 4);
    case Format::Kind::kBinary: return fmt::format("{:#0{}b}", sample.value, 2 + bits);
    case Format::Kind::kUnsigned: return fmt::format("{}", sample.value);
    case Format::Kind::kCharacter:
      if (sample.value >= 0x20 && sample.value < 0x7f)
        return fmt::format("'{}'", static_cast<char>(sample.value));
      return fmt::format("{:#04x}", sample.value);
    case Format::Kind::kFixed:
      return fmt::format(
          "{:.6g}",
          number(sample) / static_cast<double>(std::uint64_t{1} << facts_->format.fraction_bits));
    default: break;
  }
  const bool is_signed = facts_->is_signed || facts_->format.kind == Format::Kind::kSigned;
  if (!is_signed) return fmt::format("{}{}", sample.value, unit);
  const std::uint64_t shifted = bits >= 64 ? sample.value : sample.value << (64 - bits);
  return fmt::format("{}{}", static_cast<std::int64_t>(shifted) >> (bits >= 64 ? 0 : 64 - bits),
                     unit);
}

}  // namespace lucid
