// SPDX-License-Identifier: MIT
#include "strangers.h"

#include <algorithm>
#include <cstdlib>
#include <filesystem>
#include <random>

#include <unistd.h>

namespace test {
namespace {

namespace fs = std::filesystem;

constexpr const char* kArchive = "/usr/src/gcc-12/gcc-12.2.0-dfsg.tar.xz";

/// What is unpacked stays; what is built goes when the process ends.
struct Folder {
  fs::path path = scratch("strangers");
  fs::path own = path / std::to_string(getpid());
  Folder() { fs::create_directories(own); }
  ~Folder() {
    std::error_code ignored;
    fs::remove_all(own, ignored);
  }
  Folder(const Folder&) = delete;
  Folder& operator=(const Folder&) = delete;
};
const Folder& folders() {
  static const Folder kFolder;
  return kFolder;
}

std::string gcc(const std::string& options, const std::string& mcu = "atmega328p") {
  return "avr-gcc -mmcu=" + mcu + " -std=gnu99 -fgnu89-inline -w " + options;
}

/// Clang makes an object with its own idea of everything; GCC's linker puts start-up code to it.
std::string clang(const std::string& options) {
  return "sh -c 'clang --target=avr -mmcu=atmega328p -std=gnu99 -fgnu89-inline -w -isystem "
         "/usr/lib/avr/include " +
         options + " -c -o \"$2.o\" \"$3\" && avr-gcc -mmcu=atmega328p -o \"$2\" \"$2.o\"' clang";
}

}  // namespace

const std::vector<Build>& builds() {
  static const std::vector<Build> kBuilds = [] {
    std::vector<Build> out;
    for (const char* level : {"-O0", "-Og", "-O1", "-O2", "-O3", "-Os"})
      out.push_back({level, gcc(std::string(level) + " -gdwarf-4")});
    out.push_back({"-Os -flto", gcc("-Os -flto -gdwarf-4")});
    out.push_back({"-Os -mcall-prologues", gcc("-Os -mcall-prologues -gdwarf-4")});
    out.push_back({"-O2 -mrelax", gcc("-O2 -mrelax -gdwarf-4")});
    out.push_back({"-Os gc", gcc("-Os -ffunction-sections -Wl,--gc-sections -gdwarf-4")});
    out.push_back({"-O0 DWARF 2", gcc("-O0 -gdwarf-2 -gstrict-dwarf")});
    out.push_back({"-Os DWARF 2", gcc("-Os -gdwarf-2")});
    out.push_back({"-O2 DWARF 3", gcc("-O2 -gdwarf-3")});
    out.push_back({"-Og STABS", gcc("-Og -gstabs")});
    out.push_back({"-Os 1284P", gcc("-Os -gdwarf-4", "atmega1284p"), "ATmega1284P"});
    out.push_back({"-O0 2560", gcc("-O0 -gdwarf-4", "atmega2560"), "ATmega2560"});
    out.push_back({"-Os 2560", gcc("-Os -gdwarf-4", "atmega2560"), "ATmega2560"});
    out.push_back({"-Os -mcall-prologues 2560", gcc("-Os -mcall-prologues -gdwarf-4", "atmega2560"),
                   "ATmega2560"});
    for (const char* level : {"-O0", "-O1", "-Os"})
      out.push_back({std::string("clang ") + level, clang(std::string(level) + " -gdwarf-5")});
    if (const char* only = std::getenv("LUCID_BUILDS")) {  // by name, with commas around
      const std::string names = only;
      const auto other = [&](const Build& b) {
        return names.find("," + b.name + ",") == names.npos;
      };
      out.erase(std::remove_if(out.begin(), out.end(), other), out.end());
    }
    return out;
  }();
  return kBuilds;
}

const std::vector<Build>& cpp_builds() {
  static const std::vector<Build> kBuilds = [] {
    const auto gxx = [](const std::string& options, const std::string& mcu = "atmega328p") {
      return "avr-g++ -mmcu=" + mcu +
             " -std=gnu++11 -fpermissive -fno-exceptions -fno-threadsafe-statics -w -gdwarf-4 " +
             options;
    };
    return std::vector<Build>{{"C++ -O0", gxx("-O0")},
                              {"C++ -Og", gxx("-Og")},
                              {"C++ -O2", gxx("-O2")},
                              {"C++ -Os", gxx("-Os -mcall-prologues")},
                              {"C++ -Os 2560", gxx("-Os", "atmega2560"), "ATmega2560"}};
  }();
  return kBuilds;
}

namespace {

/// The sources by name; unpacked once. Empty without the package.
std::vector<std::string> sources_of(Language language) {
  const char* const others = std::getenv("LUCID_SOURCES");  // a folder of somebody's programs
  const fs::path sources = others != nullptr ? fs::path(others) : folders().path / "sources";
  const fs::path stamp = sources / "complete with all of C++";
  if (others == nullptr && fs::exists(kArchive) && !fs::exists(stamp)) {
    fs::create_directories(sources);
    run("tar xf " + std::string(kArchive) + " -C " + sources.string() +
        " --strip-components=4 --wildcards '*/testsuite/gcc.c-torture/execute/*.c' "
        "'*/testsuite/g++.old-deja/*.C' '*/testsuite/g++.dg/*.C' && touch '" +
        stamp.string() + "'");
  }
  std::vector<std::string> out;
  if (fs::exists(sources))
    for (const auto& entry : fs::recursive_directory_iterator(sources)) {
      const fs::path& path = entry.path();
      if (language == Language::kCpp
              ? path.extension() == ".C" && read(path.string()).find("main") != std::string::npos
              : path.extension() == ".c" && path.parent_path().filename() == "execute")
        out.push_back(path.string());
    }
  std::sort(out.begin(), out.end());
  return out;
}

}  // namespace

std::string own_file(const std::string& name) { return (folders().own / name).string(); }

std::optional<std::string> image_of(const std::string& source, const Build& build) {
  const std::string image = own_file(fs::path(source).stem().string() + ".elf");
  fs::remove(image);
  const Output made = run("timeout 20 " + build.command + " -o " + image + " " + source + " -lm");
  return made.code == 0 && fs::exists(image) ? std::optional<std::string>(image) : std::nullopt;
}

bool everything() { return std::getenv("LUCID_ALL") != nullptr; }

std::vector<std::string> sample(std::size_t count, Language language) {
  constexpr unsigned kSeed = 4711;  // of the small sample that every check takes
  const char* wanted = std::getenv("LUCID_SAMPLE");
  std::vector<std::string> all = sources_of(language);
  std::shuffle(all.begin(), all.end(), std::mt19937(wanted != nullptr ? fresh_seed() : kSeed));
  if (wanted != nullptr) count = std::strtoul(wanted, nullptr, 10);
  if (!everything() && all.size() > count) all.resize(count);
  return all;
}

}  // namespace test
