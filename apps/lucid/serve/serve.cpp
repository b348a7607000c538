// SPDX-License-Identifier: MIT
// Where the protocol's messages come from: standard input, or a port of this machine.
#include "serve/serve.h"

#include <fmt/format.h>
#include <unistd.h>

#include <cerrno>
#include <iostream>
#include <memory>
#include <mutex>
#include <thread>

#include <asio/io_context.hpp>
#include <asio/ip/tcp.hpp>
#include <asio/write.hpp>

#include "output.h"
#include "serve/adapter.h"
#include "serve/messages.h"

namespace lucid::app {
namespace {

/// Messages in, on a thread of their own, to an adapter on this one. `read` gives bytes, none at
/// the end.
int serve(const Console::Options& options, const std::function<std::string()>& read,
          const std::function<void(const std::string&)>& write, const std::function<void()>& stop) {
  Adapter adapter(options, [&](const std::string& message) { write(framed(message)); });
  int code = kExitGood;
  std::thread reader([&] {
    MessageReader messages;
    for (std::string bytes = read(); !bytes.empty(); bytes = read())
      if (auto fed = messages.feed(
              bytes, [&](std::string message) { adapter.receive(std::move(message)); });
          !fed) {
        std::cerr << "lucid: " << visible(fed.error().text(), false, locale_has_utf8())
                  << std::endl;
        code = kExitUsage;
        break;
      }
    adapter.close();
  });
  adapter.run();
  stop();
  reader.join();
  return code;
}

}  // namespace

int serve_here(const Console::Options& options) {
  // A read that waits is ended by closing what it reads.
  int wake[2];
  if (pipe(wake) != 0) return kExitIo;
  const auto read_some = [&]() -> std::string {
    char buffer[65536];
    fd_set wait;
    FD_ZERO(&wait);
    FD_SET(STDIN_FILENO, &wait);
    FD_SET(wake[0], &wait);
    while (select(std::max(STDIN_FILENO, wake[0]) + 1, &wait, nullptr, nullptr, nullptr) < 0)
      if (errno != EINTR) return {};
    if (FD_ISSET(wake[0], &wait)) return {};
    const ssize_t n = ::read(STDIN_FILENO, buffer, sizeof buffer);
    return n > 0 ? std::string(buffer, static_cast<std::size_t>(n)) : std::string();
  };
  const int code = serve(
      options, read_some, [](const std::string& bytes) { std::cout << bytes << std::flush; },
      [&] { ::close(wake[1]); });
  ::close(wake[0]);
  return code;
}

Result<int> serve_port(const Console::Options& options, std::uint16_t port) {
  using asio::ip::tcp;
  asio::io_context context;
  asio::error_code failed;
  tcp::acceptor acceptor(context);
  const tcp::endpoint here(asio::ip::address_v4::loopback(), port);
  acceptor.open(here.protocol(), failed);
  if (!failed) acceptor.set_option(tcp::acceptor::reuse_address(true), failed);
  if (!failed) acceptor.bind(here, failed);
  if (!failed) acceptor.listen(8, failed);
  if (failed)
    return fail(ErrorCode::kIo,
                fmt::format("port {} cannot be listened at: {}", port, failed.message()),
                "choose another one: --port 5556");
  std::cerr << "lucid: waiting for editors at 127.0.0.1:" << acceptor.local_endpoint().port()
            << std::endl;
  for (;;) {
    auto peer = std::make_shared<tcp::socket>(context);
    acceptor.accept(*peer, failed);
    if (failed) return fail(ErrorCode::kIo, "no more editors can be served: " + failed.message());
    std::thread([peer, options] {
      serve(
          options,
          [&] {
            char buffer[65536];
            asio::error_code ended;
            const std::size_t n = peer->read_some(asio::buffer(buffer), ended);
            return std::string(buffer, ended ? 0 : n);
          },
          [&](const std::string& bytes) {
            asio::error_code ignored;
            asio::write(*peer, asio::buffer(bytes), ignored);
          },
          [&] {
            asio::error_code ignored;
            peer->shutdown(tcp::socket::shutdown_both, ignored);
          });
    }).detach();
  }
}

}  // namespace lucid::app
