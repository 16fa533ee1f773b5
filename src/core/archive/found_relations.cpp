#include "archive/found_relations.h"

#include <fmt/format.h>

#include <algorithm>
#include <map>
#include <set>

#include "archive/elf_library.h"
#include "base/error.h"
#include "base/text.h"
#include "model/package.h"

namespace hambrel::archive {

namespace {

constexpr std::uint64_t kMostModuleBytes = 1 << 20, kMostElfBytes = 4ULL << 30;

std::string as_name(std::string_view text) {
  std::string name = lower(text);
  for (char& c : name) {
    const bool may = (c >= 'a' && c <= 'z') || (c >= '0' && c <= '9') || c == '+' || c == '.' || c == '_' || c == '-';
    if (!may) c = '_';
  }
  return name;
}

struct Dynamic {
  std::vector<std::string> needed;
  std::string soname;
};

/// Nothing for what is no ELF file.
std::optional<Dynamic> dynamic_of(std::span<const std::byte> content) {
  const ElfLibrary& library = elf_library();
  // it is only read; the interface knows no other way to say so
  char* const bytes = const_cast<char*>(reinterpret_cast<const char*>(content.data()));
  Elf* const elf = library.elf_memory(bytes, content.size());
  if (elf == nullptr) return std::nullopt;
  Dynamic found;
  if (library.elf_kind(elf) == ELF_K_ELF) {
    for (Elf_Scn* section = nullptr; (section = library.elf_nextscn(elf, section)) != nullptr;) {
      GElf_Shdr head{};
      if (library.gelf_getshdr(section, &head) == nullptr || head.sh_type != SHT_DYNAMIC) continue;
      Elf_Data* const data = library.elf_getdata(section, nullptr);
      GElf_Dyn one{};
      for (int i = 0; data != nullptr && library.gelf_getdyn(data, i, &one) != nullptr && one.d_tag != DT_NULL; ++i) {
        if (one.d_tag != DT_NEEDED && one.d_tag != DT_SONAME) continue;
        const char* const text = library.elf_strptr(elf, head.sh_link, one.d_un.d_val);
        if (text == nullptr || *text == '\0') continue;
        if (one.d_tag == DT_NEEDED)
          found.needed.emplace_back(text);
        else
          found.soname = text;
      }
    }
  }
  library.elf_end(elf);
  return found;
}

/// "tide >= 1.8, bell" and "tide >= 1.8 bell", as pkg-config(1) has it.
std::vector<std::string> modules_in(std::string_view list) {
  std::vector<std::string> words;
  std::string text(list);
  std::replace(text.begin(), text.end(), ',', ' ');
  for (const std::string_view word : split(text, ' '))
    if (const auto one = trim(word); !one.empty()) words.emplace_back(one);
  std::vector<std::string> modules;
  for (std::size_t i = 0; i < words.size(); ++i) {
    const bool is_comparison = words[i].find_first_of("<>=!") == 0;
    if (is_comparison && !modules.empty() && i + 1 < words.size()) {
      modules.back() += " " + words[i] + " " + words[i + 1];
      ++i;
    } else if (!is_comparison) {
      modules.push_back(words[i]);
    }
  }
  return modules;
}

class Search {
 public:
  explicit Search(os::FileReader& files) : files_(files) {}

  FoundRelations run(std::string_view top) {
    walk(std::string(top), "");
    FoundRelations found;
    for (const auto& [name, version] : provided_) {
      Constraint& one = found.provides.emplace_back();
      one.name = name;
      if (const auto parsed = Version::parse(version)) {
        one.op = Operator::Equal;
        one.version = *parsed;
      }
    }
    for (auto& [key, need] : needed_)
      if (!is_brought(need)) found.needs.push_back(std::move(need));
    return found;
  }

 private:
  bool is_brought(const FoundNeed& need) const {
    if (need.is_path()) return paths_.contains(need.text.substr(1));
    const auto constraint = need.constraint();
    if (!constraint) return false;
    if (provided_.contains(constraint->name)) return true;
    // a library without a name of its own, beside the program
    return need.kind == FoundNeed::Kind::Library && names_.contains(need.text);
  }

  void walk(const std::string& directory, const std::string& path) {
    for (const std::string& name : files_.list(directory)) {
      const std::string there = os::join_path(directory, name), below = os::join_path(path, name);
      const auto info = files_.stat(there);
      if (!info) continue;
      if (info->type == os::FileType::Directory) {
        walk(there, below);
        continue;
      }
      paths_.insert(below);
      names_.insert(name);
      if (info->type == os::FileType::Regular) look_into(there, below, *info);
      if (info->type == os::FileType::Symlink) follow(below, files_.read_link(there));
    }
  }

  void follow(const std::string& path, const std::string& target) {
    const std::string whole = target.starts_with("/") ? target : fmt::format("/{}/{}", os::parent_of(path), target);
    const std::string led_to = os::host_path(whole);
    if (!led_to.empty() && path_problem(led_to).empty()) add({FoundNeed::Kind::Link, "/" + led_to, path});
  }

  void look_into(const std::string& there, const std::string& path, const os::FileInfo& info) {
    if (path.ends_with(".pc") && path.find("/pkgconfig/") != std::string::npos && info.size <= kMostModuleBytes)
      return read_module(files_.read_all(there, kMostModuleBytes), path);
    constexpr std::uint64_t kLeast = 4;
    if (info.size < kLeast || info.size > kMostElfBytes) return;
    std::string begin(std::min<std::uint64_t>(info.size, 256), '\0');
    begin.resize(files_.open_itself(there)->read_at(0, std::as_writable_bytes(std::span(begin))));
    constexpr std::uint32_t kRunnable = 0111;
    if (begin.starts_with("#!") && (info.mode & kRunnable) != 0) return read_script(begin, path);
    if (!begin.starts_with("\x7f"
                           "ELF"))
      return;
    const auto content = files_.map(there);
    const auto dynamic = dynamic_of(content->data());
    if (!dynamic) return;
    for (const std::string& one : dynamic->needed) add({FoundNeed::Kind::Library, one, path});
    const bool is_library = !dynamic->soname.empty() && path.find("lib") != std::string::npos;
    if (is_library) provided_.emplace(library_name(dynamic->soname), "");
  }

  void read_script(std::string_view text, const std::string& path) {
    std::string_view line = trim(text.substr(2, text.find('\n') - 2));
    line = line.substr(0, line.find_first_of(" \t"));
    if (line.size() > 1 && line.starts_with("/") && path_problem(line.substr(1)).empty())
      add({FoundNeed::Kind::Interpreter, std::string(line), path});
  }

  void read_module(const std::string& text, const std::string& path) {
    const std::string_view name = os::name_of(path);
    std::string version;
    std::map<std::string, std::string> variables;
    const auto with_variables = [&](std::string_view value) {
      std::string result(value);
      for (std::size_t at = 0; (at = result.find("${", at)) != std::string::npos;) {
        const auto close = result.find('}', at);
        if (close == std::string::npos) break;
        const auto found = variables.find(result.substr(at + 2, close - at - 2));
        result.replace(at, close + 1 - at, found == variables.end() ? "" : found->second);
      }
      return result;
    };
    for (const std::string_view line : split(text, '\n')) {
      const auto mark = line.find_first_of(":=");
      if (mark == std::string_view::npos) continue;
      const std::string key(trim(line.substr(0, mark)));
      const std::string value = with_variables(trim(line.substr(mark + 1)));
      if (line[mark] == '=') {
        variables.emplace(key, value);
      } else if (key == "Version") {
        version = value;
      } else if (key == "Requires" || key == "Requires.private") {
        for (const std::string& one : modules_in(value)) add({FoundNeed::Kind::PkgConfig, one, path});
      }
    }
    provided_.emplace(module_name(name.substr(0, name.size() - 3)), version);
  }

  void add(FoundNeed need) {
    auto key = std::pair(need.kind, need.text);
    needed_.emplace(std::move(key), std::move(need));
  }

  os::FileReader& files_;
  std::map<std::pair<FoundNeed::Kind, std::string>, FoundNeed> needed_;
  std::map<std::string, std::string> provided_;  // name, version or nothing
  std::set<std::string, std::less<>> paths_, names_;
};

}  // namespace

std::string library_name(std::string_view soname) { return as_name(soname); }
std::string module_name(std::string_view module) { return as_name(module) + ".pc"; }

std::optional<Constraint> FoundNeed::constraint() const {
  if (is_path()) return std::nullopt;
  Constraint result;
  if (kind == Kind::Library) {
    result.name = library_name(text);
  } else {
    const auto space = text.find(' ');
    result.name = module_name(text.substr(0, space));
    if (space != std::string::npos) {
      try {
        result = parse_constraint(result.name + text.substr(space), by);
      } catch (const Error&) {  // a version of another grammar: any will do
      }
    }
  }
  if (!is_package_name(result.name)) return std::nullopt;
  return result;
}

FoundRelations find_relations(os::FileReader& files, std::string_view top) { return Search(files).run(top); }

}  // namespace hambrel::archive
