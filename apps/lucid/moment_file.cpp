// SPDX-License-Identifier: MIT
#include "moment_file.h"

#include <filesystem>
#include <fstream>
#include <iterator>
#include <nlohmann/json.hpp>

#include "output.h"

namespace lucid::app {
namespace {

namespace fs = std::filesystem;
using Json = nlohmann::ordered_json;

}  // namespace

Result<void> write_moment(const std::string& path, const MomentFile& moment) {
  std::error_code unknown;
  const fs::path folder = fs::absolute(path, unknown).parent_path();
  const auto seen = [&](const std::string& file) {
    return file.empty() ? file
                        : fs::proximate(fs::absolute(file, unknown), folder, unknown).string();
  };
  Json out{{"image", seen(moment.image)}};
  if (!moment.bench.empty()) out["bench"] = seen(moment.bench);
  if (!moment.on.empty()) out["on"] = moment.on;
  if (!moment.more_bench.empty()) out["more_bench"] = moment.more_bench;
  out["chip"] = moment.chip;
  out["clock_hz"] = moment.clock_hz;
  std::string text = out.dump(-1, ' ', true, Json::error_handler_t::replace);
  text.back() = ',';
  return write_file(path, text + "\n\"timeline\":\n" + moment.timeline + "}\n");
}

Result<MomentFile> read_moment(const std::string& path) {
  std::ifstream in(path, std::ios::binary);
  std::error_code unknown;
  if (!in || fs::is_directory(path, unknown))
    return fail(ErrorCode::kNotFound, "cannot read '" + path + "'", "check the path");
  const std::string text{std::istreambuf_iterator<char>(in), {}};
  const Json json = Json::parse(text, nullptr, false);
  const auto no_moment = [&] {
    return fail(ErrorCode::kUsage, "'" + path + "' is no saved moment",
                "`timeline save FILE` writes one");
  };
  if (!json.is_object() || !json.contains("timeline")) return no_moment();
  const auto word = [&](const char* name) {
    return json.contains(name) && json[name].is_string() ? json[name].get<std::string>()
                                                         : std::string();
  };
  MomentFile out;
  const fs::path folder = fs::path(path).parent_path();
  const auto seen = [&](const std::string& file) {
    return file.empty() ? file : (folder / file).lexically_normal().string();
  };
  out.image = seen(word("image"));
  out.bench = seen(word("bench"));
  out.on = word("on");
  out.more_bench = word("more_bench");
  out.chip = word("chip");
  if (json.contains("clock_hz") && json["clock_hz"].is_number_unsigned())
    out.clock_hz = json["clock_hz"].get<std::uint64_t>();
  if (out.image.empty() || out.chip.empty() || out.clock_hz == 0) return no_moment();
  out.timeline = json["timeline"].dump();
  return out;
}

}  // namespace lucid::app
