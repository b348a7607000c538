// SPDX-License-Identifier: MIT
// Parts of the other files, made from their keys.
#ifndef LUCID_BENCH_PARTS_H
#define LUCID_BENCH_PARTS_H

#include "bench/kinds.h"

namespace lucid::bench {

using Made = std::shared_ptr<const Part>;
Made make_constant(const std::string& name, Keys& keys, const Surroundings& around);
Made make_ramp(const std::string& name, Keys& keys, const Surroundings& around);
Made make_sine(const std::string& name, Keys& keys, const Surroundings& around);
Made make_table(const std::string& name, Keys& keys, const Surroundings& around);
Made make_potentiometer(const std::string& name, Keys& keys, const Surroundings& around);
Made make_two_wire_eeprom(const std::string& name, Keys& keys, const Surroundings& around);
Made make_spi_flash(const std::string& name, Keys& keys, const Surroundings& around);
Made make_terminal(const std::string& name, Keys& keys, const Surroundings& around);
Made make_oven(const std::string& name, Keys& keys, const Surroundings& around);

}  // namespace lucid::bench

#endif  // LUCID_BENCH_PARTS_H
