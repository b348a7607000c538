// SPDX-License-Identifier: MIT
// The tables behind Program, and the readers that fill them.
#ifndef LUCID_PROGRAM_PROGRAM_DATA_H
#define LUCID_PROGRAM_PROGRAM_DATA_H

#include <map>

#include "lucid/program.h"

namespace lucid {

struct Program::Data {
  std::vector<std::string> warnings;
  std::uint16_t machine = 0;  ///< ELF's e_machine
  std::vector<SourceFile> files;
  std::vector<Function> functions;
  std::vector<Variable> variables;
  std::vector<Type> types;
  std::vector<Symbol> symbols;
  std::vector<LineRange> ranges;                  ///< by address, none empty
  std::vector<LineRange> points;                  ///< statements without instructions of their own
  std::map<std::uint32_t, std::uint32_t> bodies;  ///< function begin → body

  std::vector<Local> locals;
  std::vector<InlinedCall> inlined;
  std::map<std::uint32_t, CallSite> call_sites;  ///< by the address they return to
  std::map<std::string, Macro> macros;
  struct FrameBase {
    std::uint32_t begin = 0, end = 0;
    std::vector<LocationOp> ops;
  };
  std::vector<FrameBase> frame_bases;

  /// A frame description entry with the instructions of its CIE.
  struct Fde {
    std::uint32_t begin = 0, end = 0;
    std::uint32_t code_factor = 1;
    std::int32_t data_factor = 1;
    std::vector<std::uint8_t> initial, program;
  };
  struct Column {
    unsigned file = 0, line = 0, column = 0;
    std::uint32_t address = 0;
  };
  std::vector<Column> columns;  ///< of statements, in this order
  std::vector<Fde> fdes;
};

namespace program {

/// The range that holds an address, or null. REQUIRES: ranges by address.
const LineRange* range_at(const std::vector<LineRange>& ranges, std::uint32_t address);

struct LineRow {
  std::uint32_t address = 0;
  unsigned file = 0, line = 0;
  bool statement = true;
  bool ends = false;  ///< the address behind the last instruction of a sequence
  bool prologue_ends = false;
  unsigned column = 0;  ///< 0: the compiler does not say
};
/// Makes ranges, points and bodies of them; the files' lines with code follow.
void finish_lines(std::vector<LineRow> rows, Program::Data& data);

void read_dwarf(const Image& image, Program::Data& data);
void read_stabs(const Image& image, Program::Data& data);
std::optional<FrameRow> execute_frame(const Program::Data::Fde& fde, std::uint32_t address);

}  // namespace program
}  // namespace lucid

#endif  // LUCID_PROGRAM_PROGRAM_DATA_H
