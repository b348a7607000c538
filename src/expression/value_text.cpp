// SPDX-License-Identifier: MIT
// Values as text.
#include <fmt/format.h>

#include <cmath>
#include <cstring>

#include "base/text.h"
#include "expression/object.h"
#include "lucid/time.h"

namespace lucid {
namespace expression {
namespace {

constexpr unsigned kMostElements = 24;

std::string escaped(unsigned char c) {
  switch (c) {
    case '\n': return "\\n";
    case '\r': return "\\r";
    case '\t': return "\\t";
    case '\0': return "\\0";
    case '\\': return "\\\\";
    case '"': return "\\\"";
    default: break;
  }
  return c >= 0x20 && c < 0x7f ? std::string(1, static_cast<char>(c)) : fmt::format("\\x{:02x}", c);
}

std::uint64_t bits_of(const Value& v) {
  const auto raw = static_cast<std::uint64_t>(v.integer);
  return v.bits >= 64 ? raw : raw & ((std::uint64_t{1} << v.bits) - 1);
}

class Writer {
 public:
  explicit Writer(const Scope& scope) : scope_(scope) {}

  std::string text(const Operand& o, Format format, unsigned depth) {
    const Value& v = o.value;
    if (v.kind == Value::Kind::kAggregate) return aggregate(o, format, depth);
    if (v.kind == Value::Kind::kTime) {
      const bool negative = v.integer < 0;
      const auto raw = static_cast<std::uint64_t>(v.integer);
      const std::uint64_t magnitude = negative ? 0 - raw : raw;
      return (negative ? "-" : "") + to_text(Picoseconds{magnitude});
    }
    if (v.kind == Value::Kind::kReal) return fmt::format("{:.7g}", v.real);
    const std::uint64_t raw = bits_of(v);
    switch (format.kind) {
      case Format::Kind::kDecimal:
        return v.is_signed ? fmt::format("{}", as_signed(v)) : fmt::format("{}", raw);
      case Format::Kind::kSigned: return fmt::format("{}", as_signed(v));
      case Format::Kind::kUnsigned: return fmt::format("{}", raw);
      case Format::Kind::kHex: return fmt::format("{:#0{}x}", raw, (v.bits + 3) / 4 + 2);
      case Format::Kind::kBinary: return binary(raw, v.bits);
      case Format::Kind::kBits: return set_bits(raw, v.bits);
      case Format::Kind::kCharacter: return "'" + escaped(static_cast<unsigned char>(raw)) + "'";
      case Format::Kind::kReal: {
        const auto word = static_cast<std::uint32_t>(raw);
        float real = 0;
        std::memcpy(&real, &word, 4);
        return fmt::format("{:.7g}", static_cast<double>(real));
      }
      case Format::Kind::kFixed:
        return fmt::format("{:.7g}",
                           std::ldexp(static_cast<double>(v.is_signed ? as_signed(v) : v.integer),
                                      -format.fraction_bits));
      case Format::Kind::kTime: return to_text(Picoseconds{raw});
      case Format::Kind::kText:
        return text_at({Space::kData, static_cast<std::uint32_t>(raw)}, kMostText);
      case Format::Kind::kRaw: {
        std::string out;
        for (unsigned i = 0; i < (v.bits + 7U) / 8; ++i)
          out += fmt::format("{}{:02x}", i == 0 ? "" : " ", raw >> (8 * i) & 0xff);
        return out;
      }
      case Format::Kind::kNatural: break;
    }
    return natural(o);
  }

 private:
  static constexpr std::uint32_t kMostText = 80;

  static std::int64_t as_signed(const Value& v) {
    const std::uint64_t raw = bits_of(v);
    if (v.bits >= 64 || (raw >> (v.bits - 1) & 1U) == 0) return static_cast<std::int64_t>(raw);
    return static_cast<std::int64_t>(raw) - (std::int64_t{1} << v.bits);
  }

  static std::string binary(std::uint64_t raw, unsigned bits) {
    std::string out = "0b";
    for (unsigned i = bits; i-- > 0;) {
      out += (raw >> i & 1U) != 0 ? '1' : '0';
      if (i % 4 == 0 && i != 0) out += '_';
    }
    return out;
  }

  /// The numbers of the bits that are set, highest first.
  static std::string set_bits(std::uint64_t raw, unsigned bits) {
    std::string out;
    for (unsigned i = bits; i-- > 0;)
      if ((raw >> i & 1U) != 0) out += (out.empty() ? "" : ", ") + std::to_string(i);
    return out.empty() ? "no bit is set" : "bits " + out;
  }

  std::string text_at(Address address, std::uint32_t most) const {
    std::string out = "\"";
    for (std::uint32_t i = 0; i < most; ++i) {
      const auto byte = scope_.machine.peek({address.space, address.offset + i});
      if (!byte) return out + "\"… (no memory behind it)";
      if (*byte == 0) return out + "\"";
      out += escaped(*byte);
    }
    return out + "\"…";
  }

  std::string natural(const Operand& o) const {
    const Value& v = o.value;
    const Type* t = o.type != 0 ? &scope_.program.types()[o.type] : nullptr;
    if (o.target != 0) return pointer(o);
    if (t != nullptr) {
      switch (t->kind) {
        case Type::Kind::kBool: return v.integer != 0 ? "true" : "false";
        case Type::Kind::kChar:
          return fmt::format("'{}' ({})", escaped(static_cast<unsigned char>(v.integer)),
                             v.integer);
        case Type::Kind::kEnum:
          for (const Type::Enumerator& e : t->enumerators)
            if (e.value == v.integer) return fmt::format("{} ({})", e.name, v.integer);
          return flags_in(*t, v);
        default: break;
      }
    }
    if (v.wrapped) return fmt::format("{} (signed: {})", v.integer, as_signed(v));
    if (!v.is_signed) return fmt::format("{}", static_cast<std::uint64_t>(v.integer));
    return fmt::format("{}", v.integer);
  }

  /// A value that no enumerator has: perhaps several that are single bits.
  static std::string flags_in(const Type& t, const Value& v) {
    std::string out;
    auto rest = static_cast<std::uint64_t>(v.integer);
    for (const Type::Enumerator& e : t.enumerators) {
      const auto bit = static_cast<std::uint64_t>(e.value);
      const bool single = e.value > 0 && (bit & (bit - 1)) == 0;
      if (!single || (rest & bit) == 0) continue;
      out += (out.empty() ? "" : " | ") + e.name;
      rest &= ~bit;
    }
    if (rest != 0 || out.empty()) return fmt::format("{} (no enumerator)", v.integer);
    return fmt::format("{} ({})", out, v.integer);
  }

  [[nodiscard]] const Type& type(unsigned index) const { return scope_.program.types()[index]; }

  /// Its number and what it leads to.
  [[nodiscard]] std::string pointer(const Operand& o) const {
    const Value& v = o.value;
    std::string out = fmt::format("{:#0{}x}", bits_of(v), v.bits / 4 + 2);
    if (v.integer == 0) return out;
    if (type(o.target).kind == Type::Kind::kFunction) return out + function(bits_of(v));
    const Address to = led_to(o, scope_).address;
    if (type(o.target).kind == Type::Kind::kChar) out += " " + text_at(to, 40);
    const Variable* before = nullptr;  // that ends nearest before it
    std::uint32_t past = kNear + 1;
    for (const Variable& variable : scope_.program.variables()) {
      const std::uint32_t bytes = std::max(type(variable.type).bytes, 1U);
      if (variable.address.space != to.space || to.offset < variable.address.offset) continue;
      const std::uint32_t into = to.offset - variable.address.offset;
      if (into < bytes) return out + " → " + variable.name + part_name(variable.type, into);
      if (into - bytes >= past) continue;
      past = into - bytes;
      before = &variable;
    }
    if (before == nullptr) return out;
    if (past == 0) return out + " → the end of " + before->name;
    return out +
           fmt::format(" → {} byte{} past the end of {}", past, past == 1 ? "" : "s", before->name);
  }
  static constexpr std::uint32_t kNear = 16;

  /// Pointers to functions count words.
  [[nodiscard]] std::string function(std::uint64_t raw) const {
    const auto address =
        static_cast<std::uint32_t>(raw * scope_.machine.target().convention().instruction_unit);
    const Function* f = scope_.program.function_at(address);
    if (f == nullptr) return "";
    std::string out = " → " + f->name;
    if (f->begin != address) return out + fmt::format("+{:#x}", address - f->begin);
    return f->file ? out + " (" + scope_.program.files()[*f->file].name + ")" : out;
  }

  /// What lies so many bytes into an object: `[3].next`.
  [[nodiscard]] std::string part_name(unsigned index, std::uint32_t into) const {
    std::string out;
    for (unsigned depth = 0; depth < 8; ++depth) {
      const Type& t = type(index);
      if (t.kind == Type::Kind::kArray && type(t.target).bytes != 0) {
        const std::uint32_t element = into / type(t.target).bytes;
        const bool at_start = into == 0 && depth == 0;
        if (!at_start) out += fmt::format("[{}]", element);
        into %= type(t.target).bytes;
        index = t.target;
        if (at_start) break;
      } else if (t.kind == Type::Kind::kStruct && into != 0) {
        const Type::Member* inside = nullptr;
        for (const Type::Member& m : t.members)
          if (m.offset <= into && into < m.offset + std::max(type(m.type).bytes, 1U)) inside = &m;
        if (inside == nullptr) break;
        out += "." + inside->name;
        into -= inside->offset;
        index = inside->type;
      } else {
        break;
      }
    }
    return into == 0 ? out : out + fmt::format(" + {}", into);
  }

  std::string aggregate(const Operand& o, Format format, unsigned depth) {
    if (o.type == 0) {  // a range of bytes
      std::string out;
      for (std::int64_t i = 0; i < o.value.integer && i < 64; ++i)
        out += fmt::format("{}{:02x}", i == 0 ? "" : " ",
                           byte_at(o, static_cast<std::uint32_t>(i)).value_or(0));
      return o.value.integer > 64 ? out + " …" : out;
    }
    const Type& t = scope_.program.types()[o.type];
    if (depth >= format.depth) return "{…}";
    if (t.kind == Type::Kind::kArray) {
      if (scope_.program.types()[t.target].kind == Type::Kind::kChar &&
          (format.kind == Format::Kind::kNatural || format.kind == Format::Kind::kText))
        return characters(o, t.count);
      return array(o, t, format, depth);
    }
    std::string out = "{";
    for (const Type::Member& m : t.members) {
      if (out.size() > 1) out += ", ";
      out += (m.name.empty() ? "" : m.name + " = ") + part(member_of(o, m, scope_), format, depth);
    }
    return out + "}";
  }

  [[nodiscard]] std::optional<std::uint8_t> byte_at(const Operand& o, std::uint32_t offset) const {
    return frames::byte_of(o.place, offset, scope_.machine);
  }

  /// A text as C has it; what a character array holds behind the end of its text is counted.
  [[nodiscard]] std::string characters(const Operand& o, std::uint32_t count) const {
    constexpr std::uint32_t kMost = 200;
    std::string out = "\"";
    std::uint32_t end = 0;
    for (; end < count; ++end) {
      const auto byte = byte_at(o, end);
      if (!byte) return out + fmt::format("\"… ([{}] is not known here)", end);
      if (*byte == 0) break;
      if (end == kMost) return out + "\"…";
      out += escaped(*byte);
    }
    out += '"';
    std::uint32_t last = end;
    for (std::uint32_t i = end + 1; i < count; ++i)
      if (byte_at(o, i).value_or(0) != 0) last = i;
    if (last == end) return out;
    return out +
           fmt::format(" (and {} byte{} behind its end)", last - end, last - end == 1 ? "" : "s");
  }

  std::string array(const Operand& o, const Type& t, Format format, unsigned depth) {
    const std::uint32_t bytes = scope_.program.types()[t.target].bytes;
    std::string out = "{";
    std::string previous;
    unsigned repeats = 0;
    unsigned written = 0;
    const auto flush = [&] {
      if (repeats == 0) return;
      if (out.size() > 1) out += ", ";
      out += repeats > 1 ? fmt::format("{} × {}", previous, repeats) : previous;
      ++written;
    };
    constexpr std::uint32_t kMostLooked = 4096;
    for (std::uint32_t i = 0; i < t.count; ++i) {
      if (i == kMostLooked) {
        flush();
        return out + ", …}";
      }
      std::string element =
          part(object_at(place_within(o.place, i * bytes, bytes), t.target, scope_), format, depth);
      if (repeats != 0 && element == previous) {
        ++repeats;
        continue;
      }
      flush();
      if (written >= kMostElements) return out + ", …}";
      previous = std::move(element);
      repeats = 1;
    }
    flush();
    return out + "}";
  }

  std::string part(const Result<Operand>& found, Format format, unsigned depth) {
    if (found) return text(*found, format, depth + 1);
    switch (found.error().code) {
      case ErrorCode::kOutOfRange: return "(no memory)";
      case ErrorCode::kNotFound: return "(not known here)";
      default: return "?";
    }
  }

  const Scope& scope_;
};

}  // namespace

std::string written(const Operand& operand, Format format, const Scope& scope) {
  if (operand.elsewhere != nullptr) {
    const std::string& chip = operand.elsewhere->chip;
    if (const auto companion = scope.machine.companion(chip))
      return written(operand.elsewhere->operand, format, scope_on(chip, *companion, scope));
  }
  return Writer(scope).text(operand, format, 0);
}

}  // namespace expression

Result<Format> parse_format(const std::string& name) {
  using Kind = Format::Kind;
  struct Row {
    const char* name;
    Kind kind;
  };
  constexpr Row kRows[] = {
      {"dec", Kind::kDecimal},    {"signed", Kind::kSigned}, {"unsigned", Kind::kUnsigned},
      {"hex", Kind::kHex},        {"bin", Kind::kBinary},    {"bits", Kind::kBits},
      {"char", Kind::kCharacter}, {"text", Kind::kText},     {"real", Kind::kReal},
      {"time", Kind::kTime},      {"raw", Kind::kRaw}};
  if (const std::size_t at = name.rfind("depth "); at != name.npos) {
    constexpr std::uint64_t kMostDepth = 32;
    const auto depth = base::parse_unsigned(base::trim(std::string_view(name).substr(at + 6)));
    if (!depth || *depth > kMostDepth || (at != 0 && name[at - 1] != ' '))
      return fail(ErrorCode::kUsage, "'" + name.substr(at) + "' is no depth", "such as depth 5");
    const std::string before(base::trim(std::string_view(name).substr(0, at)));
    auto format = before.empty() ? Result<Format>(Format{}) : parse_format(before);
    if (format) format->depth = static_cast<std::uint8_t>(*depth);
    return format;
  }
  std::vector<std::string> names{"q8.8"};
  for (const Row& row : kRows) {
    if (name == row.name) return Format{row.kind};
    names.emplace_back(row.name);
  }
  if (const std::size_t dot = name.find('.');
      name.size() > 3 && name[0] == 'q' && dot != name.npos) {
    const auto whole = base::parse_unsigned(std::string_view(name).substr(1, dot - 1));
    const auto fraction = base::parse_unsigned(std::string_view(name).substr(dot + 1));
    if (whole && fraction && *whole + *fraction <= 64)
      return Format{Kind::kFixed, static_cast<std::uint8_t>(*fraction)};
  }
  std::string hint = did_you_mean(name, names);
  if (hint.empty())
    hint = "formats are dec signed unsigned hex bin bits char text real q8.8 time raw";
  return fail(ErrorCode::kUsage, "there is no format '" + name + "'", hint);
}

}  // namespace lucid
