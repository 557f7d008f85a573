// `kwind keys`: makes the key pairs of a server and of its tickets.
#include <fcntl.h>
#include <fmt/format.h>
#include <sys/stat.h>
#include <unistd.h>

#include <filesystem>
#include <memory>
#include <nlohmann/json.hpp>

#include "commands.h"
#include "kwind/io/clock.h"
#include "kwind/json/text.h"
#include "kwind/link/keys.h"
#include "kwind/ticket/ticket.h"

namespace kwind::tool {
namespace {

namespace fs = std::filesystem;

struct KeysArguments {
  std::string folder = ".";
  bool replace = false;
  bool json = false;
};

struct KeyFile {
  const char* name;
  bool secret;
  std::string text;
  const char* use;
};

// A secret is readable by its owner alone from the moment it exists. An old file stays until the
// new one is whole; a folder, a link or a device stays.
bool write_key(const fs::path& path, const KeyFile& file) {
  std::error_code error;
  const auto there = fs::symlink_status(path, error);
  const bool is_free = there.type() == fs::file_type::not_found;
  if (!is_free && there.type() != fs::file_type::regular) return false;
  const fs::path fresh = path.string() + ".new";
  fs::remove(fresh, error);
  const int fd =
      ::open(fresh.c_str(), O_WRONLY | O_CREAT | O_EXCL | O_CLOEXEC, file.secret ? 0600 : 0644);
  if (fd < 0) return false;
  const std::string text = file.text + "\n";
  const bool whole = ::write(fd, text.data(), text.size()) == static_cast<ssize_t>(text.size());
  const bool closed = ::close(fd) == 0;
  if (whole && closed) fs::rename(fresh, path, error);
  if (whole && closed && !error) return true;
  fs::remove(fresh, error);
  return false;
}

// Four files: secret and public key of the server, and of its tickets. Without --replace existing
// files stay.
int make_keys(const KeysArguments& arguments) {
  const link::KeyPair server = link::KeyPair::from_secret(io::random_secret());
  const ticket::SigningKey signing = ticket::SigningKey::from_seed(io::random_secret());
  const KeyFile files[] = {
      {"server.key", true, link::key_text(server.secret.bytes()), "the game server alone"},
      {"server.pub", false, link::key_text(server.public_key), "every client, with the address"},
      {"ticket.key", true, ticket::to_jwk(signing), "the login service alone"},
      {"ticket.pub", false, ticket::to_jwk(signing.verify), "the game server"},
  };
  std::error_code error;
  if (fs::create_directory(arguments.folder, error)) {
    fs::permissions(arguments.folder, fs::perms::owner_all, error);  // secrets will lie in it
  }
  if (!fs::is_directory(arguments.folder, error)) {
    fmt::print(stderr, "{}: there is no such folder, and it cannot be made here\n",
               arguments.folder);
    return kFoundWrong;
  }
  for (const KeyFile& file : files) {
    const fs::path path = fs::path(arguments.folder) / file.name;
    if (!arguments.replace && fs::exists(path, error)) {
      fmt::print(stderr,
                 "{}: is there already; nothing was written. Clients and tickets of the old keys "
                 "would be refused; say --replace if you mean it\n",
                 path.string());
      return kFoundWrong;
    }
  }
  nlohmann::ordered_json out;
  for (const KeyFile& file : files) {
    const fs::path path = fs::path(arguments.folder) / file.name;
    if (!write_key(path, file)) {
      fmt::print(stderr, "{}: cannot write the file; check the folder's permissions\n",
                 path.string());
      return kFoundWrong;
    }
    if (arguments.json) {
      out["files"].push_back({{"file", path.string()}, {"secret", file.secret}, {"for", file.use}});
    } else {
      fmt::print("{:<28} {}for {}\n", path.string(), file.secret ? "SECRET, " : "", file.use);
    }
  }
  out["server_public_key"] = files[1].text;
  if (arguments.json) {
    fmt::print("{}\n", json::text_of(out, 2));
  } else {
    fmt::print("the server's public key: {}\n", files[1].text);
  }
  return kFine;
}

}  // namespace

// The options of `kwind keys`.
void add_keys(Command app, std::function<int()>& chosen) {
  auto arguments = std::make_shared<KeysArguments>();
  Command command = app.add_subcommand("keys", "Make the key pairs of a server and of its tickets");
  command.add_option("-o,--output", arguments->folder, "Folder for the four files")
      .type_name("FOLDER")
      .capture_default_str();
  command.add_flag("--replace", arguments->replace, "Overwrite keys that are there");
  command.add_flag("--json", arguments->json, "Print one JSON object; no secret is in it");
  command.footer(
      "Example:\n  kwind keys --output secrets\n\n"
      "Server keys are one line of base64url; ticket keys are JSON Web Keys (RFC 8037), which "
      "other\n"
      "libraries read. Exit code 0 when all four were written, 1 otherwise.");
  command.callback(
      [arguments, &chosen] { chosen = [arguments] { return make_keys(*arguments); }; });
}

}  // namespace kwind::tool
