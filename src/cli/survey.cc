// `undershelf survey`: what is on a source.
#include "scan/survey.h"

#include <fmt/format.h>

#include <iostream>

#include "cli/command.h"
#include "cli/confined.h"
#include "cli/filters.h"
#include "cli/in_use.h"
#include "cli/output.h"
#include "cli/shelf_source.h"
#include "scan/inspect.h"
#include "source/container.h"
#include "source/health.h"

namespace undershelf::cli {
namespace {

// A source with all that was found out about it.
struct Surveyed {
  std::string path;
  uint64_t skip = 0;
  SourcePtr source;
  std::optional<DeviceFacts> device;
  std::optional<Health> health;  // of a device
  SourceUse use;
  Survey found;
  std::string other_system;  // that is not read here, on the whole of it
  std::optional<std::string> container;
  std::vector<SpaceSample> spaces;  // of each volume
};

// What else lies in a part that no reader of ours recognised.
std::string other_system(const Partition& partition, const Surveyed& s) {
  if (partition.container || s.found.has_volume_in(partition.number)) return {};
  return name_of_other_system(*s.source, partition.range);
}

void number(Line& line, const char* name, uint64_t value) {
  line.number(name, static_cast<int64_t>(value));
}

void print_source_json(const Surveyed& s) {
  Line line(Line::Form::json);
  line.begin();
  line.text("record", "source");
  line.text("path", s.path);
  number(line, "size", s.source->size());
  number(line, "sector_size", s.source->sector_size());
  line.text("scheme", s.found.layout.scheme);
  line.text("other_system", s.other_system);
  line.text("container", s.container);
  if (s.device) {
    Line device(Line::Form::json);
    device.begin();
    device.text("model", s.device->model);
    device.text("serial", s.device->serial);
    device.boolean("removable", s.device->removable);
    device.boolean("rotating", s.device->rotating);
    device.boolean("discards", s.device->discards);
    device.text("health", std::string(to_text(s.health->condition)));
    device.list("health_facts", s.health->facts);
    device.list("mounted_for_writing", s.use.mounted_for_writing);
    device.list("mounted_for_reading", s.use.mounted_for_reading);
    device.list("swap", s.use.swap);
    device.list("holders", s.use.holders);
    const std::string& text = device.end();
    line.raw("device", std::string_view(text).substr(0, text.size() - 1));
  } else {
    line.null("device");
  }
  line.list("notes", s.found.layout.notes);
  std::cout << line.end();
}

void print_json(const Surveyed& s) {
  print_source_json(s);
  Line line(Line::Form::json);
  for (const Partition& partition : s.found.layout.partitions) {
    line.begin();
    line.text("record", "partition");
    line.number("number", partition.number);
    line.text("type", partition.type);
    number(line, "offset", partition.range.offset);
    number(line, "length", partition.range.length);
    line.text("name", partition.name);
    line.boolean("bootable", partition.bootable);
    line.boolean("recognised", s.found.has_volume_in(partition.number));
    line.text("other_system", other_system(partition, s));
    std::cout << line.end();
  }
  for (size_t i = 0; i < s.found.volumes.size(); ++i) {
    const FoundVolume& found = s.found.volumes[i];
    const Volume& v = found.reader->volume();
    const SpaceSample& space = s.spaces[i];
    line.begin();
    line.text("record", "volume");
    line.number("partition",
                found.partition == 0 ? std::nullopt : std::optional<int>(found.partition));
    line.text("file_system", v.file_system);
    line.text("label", v.label);
    line.text("serial", v.serial);
    number(line, "offset", v.offset);
    number(line, "length", v.length);
    number(line, "sector_size", v.sector_size);
    number(line, "cluster_size", v.cluster_size);
    number(line, "used", found.reader->used_bytes());
    line.number("confidence", v.confidence);
    number(line, "lost_sampled", space.lost.sampled);
    number(line, "lost_blank", space.lost.blank);
    number(line, "free_sampled", space.free.sampled);
    number(line, "free_blank", space.free.blank);
    line.text("meaning", meaning_of(space));
    line.list("notes", v.notes);
    std::cout << line.end();
  }
}

void print_health(const Health& health) {
  print_line(fmt::format("{:<12} {}", "health", to_text(health.condition)), 13);
  for (const std::string& fact : health.facts) print_line(fmt::format("{:<12} {}", "", fact), 13);
}

void print_device(const DeviceFacts& device, const SourceUse& use) {
  const auto field = [](const char* label, const std::string& value) {
    if (!value.empty()) print_line(fmt::format("{:<12} {}", label, value), 13);
  };
  std::cout << '\n';
  field("model", device.model);
  field("serial", device.serial);
  field("medium", fmt::format("{}, {}, {}", device.removable ? "removable" : "fixed",
                              device.rotating ? "rotating" : "not rotating",
                              device.discards ? "takes discards" : "takes no discards"));
  field("mounted rw", fmt::format("{}", fmt::join(use.mounted_for_writing, ", ")));
  field("mounted ro", fmt::format("{}", fmt::join(use.mounted_for_reading, ", ")));
  field("swap", fmt::format("{}", fmt::join(use.swap, ", ")));
  field("in use by", fmt::format("{}", fmt::join(use.holders, ", ")));
}

std::string scheme_text(const Layout& layout) {
  if (layout.scheme == "none") return "none";
  const char* name = layout.scheme == "mbr"   ? "MBR"
                     : layout.scheme == "gpt" ? "GPT"
                                              : "Apple partition map";
  return fmt::format("{}, in sectors of {} bytes", name, layout.sector_size);
}

std::string recognised_text(const Partition& partition, const Surveyed& s) {
  if (partition.container) {
    return s.found.layout.scheme == "apm" ? "holds no volume" : "holds the logical volumes";
  }
  if (s.found.has_volume_in(partition.number)) return "yes";
  const std::string other = other_system(partition, s);
  return other.empty() ? "no" : fmt::format("as {}, which is not read here", other);
}

void print_partitions(const Surveyed& s) {
  std::cout << '\n';
  Table table({{"PART", Table::Align::right},
               {"MAP SAYS", Table::Align::left, true},
               {"OFFSET", Table::Align::right},
               {"SIZE", Table::Align::right},
               {"RECOGNISED"}});
  for (const Partition& p : s.found.layout.partitions) {
    table.add({fmt::format("{}", p.number), p.name.empty() ? p.type : p.type + ", " + p.name,
               fmt::format("{}", p.range.offset), table_size(p.range.length),
               recognised_text(p, s)});
  }
  table.print();
}

void print_volumes(const Surveyed& s) {
  std::cout << '\n';
  Table table({{"SYSTEM"},
               {"LABEL", Table::Align::left, true},
               {"SERIAL"},
               {"OFFSET", Table::Align::right},
               {"SIZE", Table::Align::right},
               {"USED", Table::Align::right},
               {"SURE", Table::Align::right}});
  for (const FoundVolume& volume : s.found.volumes) {
    const Volume& v = volume.reader->volume();
    table.add({spelled(v.file_system), v.label, v.serial, fmt::format("{}", v.offset),
               table_size(v.length), table_size(volume.reader->used_bytes()),
               fmt::format("{} %", v.confidence)});
  }
  table.print();
  for (size_t i = 0; i < s.found.volumes.size(); ++i) {
    const SpaceSample& space = s.spaces[i];
    std::cout << '\n';
    print_line(
        fmt::format("Volume at byte {}: of {} places that held lost files, {} read as blank "
                    "(few is good); of {} free places, {}.",
                    s.found.volumes[i].reader->volume().offset, space.lost.sampled,
                    space.lost.blank, space.free.sampled, space.free.blank));
    if (const std::string meaning = meaning_of(space); !meaning.empty()) print_line(meaning);
  }
}

void print_table(const Surveyed& s) {
  print_line("source  " + s.path);
  print_line(fmt::format("size    {} ({} bytes), sectors of {} bytes", table_size(s.source->size()),
                         s.source->size(), s.source->sector_size()));
  print_line("map     " + scheme_text(s.found.layout));
  if (!s.found.layout.partitions.empty()) print_partitions(s);
  if (!s.found.volumes.empty()) print_volumes(s);
  std::vector<std::string> notes = s.found.layout.notes;
  for (const FoundVolume& volume : s.found.volumes) {
    const Volume& v = volume.reader->volume();
    notes.insert(notes.end(), v.notes.begin(), v.notes.end());
  }
  if (!notes.empty()) std::cout << '\n';
  for (const std::string& note : notes) print_line("note: " + note, 2);
  if (s.device) print_device(*s.device, s.use);
  if (s.health) print_health(*s.health);
}

// Loudly: whoever scans such a disk may lose it. Whether it is to be copied first.
bool warn_of_health(const Surveyed& s) {
  if (!s.health || s.health->condition < Condition::worn) return false;
  warn(s.health->condition == Condition::failing
           ? fmt::format(
                 "WARNING: {} is failing. Every read may be the last: copy it before anything "
                 "else.",
                 s.path)
           : fmt::format("WARNING: {} is worn. Copy it first, and work on the copy.", s.path));
  next_step(fmt::format("undershelf image {} --to FILE --first metadata", quoted_path(s.path)));
  return true;
}

// What to do with it now.
void conclude(const Surveyed& s) {
  warn_of_use(s.path, s.use);
  if (warn_of_health(s)) return;
  if (s.found.layout.scheme == "none") {
    if (const std::string map = name_of_other_map(*s.source); !map.empty()) {
      say(fmt::format(
          "It has a partition map of the kind `{}`, which is not read here: volumes are "
          "looked for by their headers.",
          map));
    }
  }
  if (!s.other_system.empty()) {
    say(fmt::format("This looks like {}, which is not read here.", s.other_system));
  }
  if (s.container) {
    say(*s.container);
    return;
  }
  const bool other = !s.other_system.empty() && s.found.volumes.empty();
  if (other) {
    say("Its files are out of reach of this program. A deep scan would find only what is left of "
        "volumes that stood there before.");
    return;
  }
  if (s.found.volumes.empty()) {
    say("No file system that this version reads was recognised. If this is an image of the whole "
        "medium or of one partition, a deep scan finds what is left of volumes without headers.");
  }
  next_step(fmt::format("undershelf scan {} --shelf FILE{}{}", quoted_path(s.path),
                        s.skip > 0 ? fmt::format(" --offset {}", s.skip) : "",
                        s.found.volumes.empty() ? " --depth deep" : ""));
}

}  // namespace

int run_survey(const Command& self, const std::vector<std::string>& arguments) {
  po::options_description options("Options");
  options.add_options()("format", po::value<std::string>()->value_name("FORMAT"),
                        "table (the default) or jsonl")  //
      ("offset", po::value<std::string>()->value_name("N"),
       "leave out so many bytes at the start of the source");
  add_through(options);
  const CommandLine line(self, options, {"SOURCE"}, arguments);
  if (line.help_given()) return kDone;
  const std::string format = read_format(line, {"table", "jsonl"});
  Surveyed s;
  s.path = line.text("SOURCE");
  s.skip = read_bytes(line, "offset", 0);
  refuse_through_on_source(line, s.path);
  s.health = health_of(s.path);
  confine_to({line.text("through")});
  s.source = open_source(s.path, s.skip, line.text("through"));
  s.device = examine_device(s.path);
  // What is read through an image is not asked for besides.
  if (s.health && !line.has("through")) sample_health(s.path, *s.health);
  s.use = use_of(s.path);
  s.container = container_advice(*s.source, s.path, s.path);
  if (!s.container) {
    s.found = survey(s.source, {}, [&](const ByteRange& where) {
      return name_of_other_system(*s.source, where);
    });
    s.other_system = name_of_other_system(*s.source, {0, s.source->size()});
  }
  for (const FoundVolume& volume : s.found.volumes) {
    s.spaces.push_back(sample_space(*volume.reader, *s.source));
  }
  if (format == "jsonl") {
    print_json(s);
  } else {
    print_table(s);
  }
  if (line.has("through")) {
    say(fmt::format("What was read is kept in {}, with its ledger beside it.",
                    line.text("through")));
  }
  conclude(s);
  return kDone;
}

}  // namespace undershelf::cli
