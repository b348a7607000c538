// SPDX-License-Identifier: MIT
// Good images with a few bytes of their debug information and symbols changed: every view at many
// places, and steps from there. The input names the image and the changes.
#include <gelf.h>
#include <unistd.h>

#include <cstdint>
#include <cstdio>
#include <cstdlib>
#include <fstream>
#include <iterator>
#include <string>
#include <vector>

#include "lucid/session.h"

namespace {

using namespace lucid;

struct Base {
  std::vector<char> bytes;
  std::vector<std::size_t> open;  ///< places that may be changed
};

Base read(const std::string& path) {
  Base out;
  std::ifstream in(path, std::ios::binary);
  out.bytes.assign(std::istreambuf_iterator<char>(in), {});
  elf_version(EV_CURRENT);
  Elf* elf = elf_memory(out.bytes.data(), out.bytes.size());
  std::size_t names = 0;
  if (elf == nullptr || elf_getshdrstrndx(elf, &names) != 0) std::abort();
  for (Elf_Scn* section = nullptr; (section = elf_nextscn(elf, section)) != nullptr;) {
    GElf_Shdr header;
    if (gelf_getshdr(section, &header) == nullptr || header.sh_type == SHT_NOBITS) continue;
    const std::string name = elf_strptr(elf, names, header.sh_name);
    if (name.rfind(".debug_", 0) == 0 || name == ".symtab" || name == ".strtab")
      for (std::size_t i = 0; i < header.sh_size; ++i) out.open.push_back(header.sh_offset + i);
  }
  elf_end(elf);
  return out;
}

const std::vector<Base>& bases() {
  static const std::vector<Base> kBases = [] {
    std::vector<Base> out;
    for (const char* name : {"small-g3.elf", "small-cpp.elf", "small-lto.elf", "clang-dwarf5.elf"})
      out.push_back(read(std::string(LUCID_CORPUS "/image/") + name));
    return out;
  }();
  return kBases;
}

void look(Session& session) {
  (void)session.variables();
  (void)session.globals();
  for (const CallLevel& level : session.callers())
    if (session.select_level(level.level)) (void)session.variables();
  (void)session.stack();
  (void)session.source();
  (void)session.disassembly("here", 6, true);
  (void)session.macros();
  (void)session.explain();
}

void carry_out(const std::string& path) {
  Session session(*Chip::make({"ATmega328P", 16'000'000}));
  session.set_limit({200'000'000});
  if (!session.open(path)) return;
  (void)session.names("");
  std::size_t left = 12;
  for (const Function& f : session.program().functions()) {
    if (left-- == 0) break;
    (void)session.pause_at({f.name});
    const std::uint32_t places[] = {f.begin, session.program().body_of(f),
                                    f.begin + (f.end - f.begin) / 2};
    for (const std::uint32_t place : places) {
      char text[16];
      std::snprintf(text, sizeof text, "0x%x", place & ~1U);
      if (!session.move_to(text)) continue;
      look(session);
      (void)session.step(StepKind::kOver, StepUnit::kLine);
      look(session);
      (void)session.step(StepKind::kInto, StepUnit::kLine);
      (void)session.step(StepKind::kOut, StepUnit::kLine);
    }
  }
  left = 20;
  for (const Variable& v : session.program().variables()) {
    if (left-- == 0) break;
    (void)session.evaluate(v.name);
    (void)session.evaluate("*" + v.name + "[1].x");
    (void)session.names(v.name + ".");
    (void)session.graph("&" + v.name, 10);
    (void)session.watch(v.name);
  }
  (void)session.go_for(100);
  (void)session.reload();
}

}  // namespace

extern "C" int LLVMFuzzerTestOneInput(const std::uint8_t* data, std::size_t size) {
  if (size < 1) return 0;
  const Base& base = bases()[data[0] % bases().size()];
  std::vector<char> bytes = base.bytes;
  for (std::size_t at = 1; at + 4 <= size; at += 4) {
    const std::size_t place =
        (data[at] | data[at + 1] << 8 | data[at + 2] << 16) % base.open.size();
    bytes[base.open[place]] = static_cast<char>(data[at + 3]);
  }
  static const std::string kPath = "/tmp/fuzz-session-" + std::to_string(getpid()) + ".elf";
  std::ofstream(kPath, std::ios::binary)
      .write(bytes.data(), static_cast<std::streamsize>(bytes.size()));
  carry_out(kPath);
  unlink(kPath.c_str());
  return 0;
}
