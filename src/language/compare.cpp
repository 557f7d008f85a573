// Compares two descriptions: named things are matched by name and then compared part by
// part. A change is harmless, needs the other end, or breaks; what old peers see of it decides.
//
// The digests of the versions have the last word: where those that both descriptions speak are
// equal, nothing can break, and where they differ something must (held_to_digests()).
//
// Structural diff. Both descriptions are trees; a node of one is paired with the node of the same
// name in the other, then their parts are compared, depth first. Order matters only where codes
// are numbered by it.
// Three outcomes for a change:
//   harmless     old and new peers agree on every bit of the versions that both speak
//   needs_since  the change is possible if it begins with a new version
//   breaks       old peers are refused
#include "kwind/language/compare.h"

#include <fmt/format.h>

#include <algorithm>
#include <map>
#include <set>

namespace kwind::language {
namespace {

using schema::Field;
using schema::Life;
using schema::Options;
using schema::Protocol;
using schema::Type;
using schema::TypeKind;

class Comparison {
 public:
  Comparison(const Protocol& before, const Protocol& after)
      : before_(before),
        after_(after),
        first_(std::max(oldest_version(before), oldest_version(after))),
        last_(before.version),
        next_(std::max<int>(after.version, before.version + 1)) {}

  // Walks both descriptions side by side. `judged` marks where changes begin that decide whether
  // versions are refused: the version number itself is no break.
  // Order of the output: protocol, channels, messages, entities, as a description has them.
  std::vector<Change> changes() {
    head();
    const std::size_t judged = changes_.size();
    // Each list is walked by items(); what is special to a kind of declaration is in its function.
    items(before_.channels, after_.channels, "", "channel",
          [&](const auto& a, const auto& b, const std::string& where) { channel(a, b, where); });
    items(before_.messages, after_.messages, "", "message",
          [&](const auto& a, const auto& b, const std::string& where) { message(a, b, where); });
    items(before_.entities, after_.entities, "", "entity",
          [&](const auto& a, const auto& b, const std::string& where) {
            doc(a.doc, b.doc, where);
            if (a.at_most_per_second != b.at_most_per_second) {
              harmless(where,
                       fmt::format("its rate changed from {} to {}", rate_text(a), rate_text(b)));
            }
            if (a.freshness != b.freshness) {
              harmless(where, fmt::format("its freshness changed from {} to {}",
                                          name_of(a.freshness), name_of(b.freshness)));
            }
            fields(a.fields, b.fields, where);
          });
    held_to_digests(judged);
    return std::move(changes_);
  }

 private:
  void add(Impact impact, std::string where, std::string what, std::string fix = "") {
    changes_.push_back({impact, std::move(where), std::move(what), std::move(fix)});
  }
  void harmless(const std::string& where, std::string what) {
    add(Impact::harmless, where, std::move(what));
  }
  void doc(const std::string& a, const std::string& b, const std::string& where) {
    if (a != b) harmless(where, "its comment changed");
  }
  // "message Hail, field words": how a place is named in all output.
  static std::string joined(const std::string& where, std::string_view what,
                            const std::string& name) {
    return where.empty() ? fmt::format("{} {}", what, name)
                         : fmt::format("{}, {} {}", where, what, name);
  }

  // Name, version and limits of the protocol. A larger version number is harmless, a smaller one
  // not.
  void head() {
    // Peers compare the name first: another name is another protocol.
    const std::string where = "protocol";
    if (before_.name != after_.name) {
      add(Impact::breaks, where,
          fmt::format("its name changed from {} to {}", before_.name, after_.name),
          "keep the name; peers of another name are refused");
    }
    if (after_.version < before_.version) {
      add(Impact::breaks, where,
          fmt::format("its version went back from {} to {}", before_.version, after_.version),
          "versions only grow");
    } else if (after_.version > before_.version) {
      harmless(where, fmt::format("version {} is new", after_.version));
    }
    if (oldest_version(after_) > before_.version) {
      add(Impact::breaks, where,
          fmt::format("it speaks versions {} to {} only", oldest_version(after_), after_.version),
          fmt::format("a hello lists {} versions at most; raise the version by less",
                      schema::kMaxVersions));
    } else if (first_ > oldest_version(before_)) {
      add(Impact::breaks, where,
          fmt::format(
              "{} no longer spoken: a hello lists {} versions at most",
              first_ == oldest_version(before_) + 1
                  ? fmt::format("version {} is", oldest_version(before_))
                  : fmt::format("versions {} to {} are", oldest_version(before_), first_ - 1),
              schema::kMaxVersions),
          "raise the version by less, or when peers of those are gone");
    }
    // The limits are part of the digest only through the widths that follow from them.
    limit("entities", before_.entities_up_to, after_.entities_up_to, TypeKind::ref);
    limit("peers", before_.peers_up_to, after_.peers_up_to, TypeKind::peer);
    doc(before_.doc, after_.doc, where);
  }

  // Limits decide the bits of refs and peers: they break what uses them, and nothing else.
  void limit(std::string_view what, std::uint32_t a, std::uint32_t b, TypeKind kind) {
    // A limit that nothing uses has no bits.
    if (a == b) return;
    const bool used = uses(kind) || (kind == TypeKind::ref && !before_.entities.empty());
    add(used ? Impact::breaks : Impact::harmless, "protocol",
        fmt::format("`{} up to` changed from {} to {}", what, a, b),
        used ? fmt::format("keep {}: it decides how many bits each of them takes", a) : "");
  }
  // Whether any travelling field of the older protocol holds this type, at any depth.
  bool uses(TypeKind kind) const {
    const auto any = [&](const std::vector<Field>& fields) {
      return std::any_of(fields.begin(), fields.end(), [&](const Field& field) {
        return field.words.local == schema::Local::no && holds(field.type, kind);
      });
    };
    return std::any_of(before_.messages.begin(), before_.messages.end(),
                       [&](const auto& message) { return any(message.fields); }) ||
           std::any_of(before_.records.begin(), before_.records.end(),
                       [&](const auto& record) { return any(record.fields); }) ||
           std::any_of(before_.entities.begin(), before_.entities.end(),
                       [&](const auto& entity) { return any(entity.fields); });
  }
  // What records hold is looked at by itself.
  bool holds(const Type& type, TypeKind kind) const {
    if (type.kind == kind) return true;
    if (type.kind == TypeKind::one_of) {
      for (const schema::Option& option : before_.one_ofs[type.index].options) {
        if (!option.type.empty() && holds(option.type.front(), kind)) return true;
      }
    }
    return std::any_of(type.element.begin(), type.element.end(),
                       [&](const Type& inner) { return holds(inner, kind); });
  }

  // ---- lists of named things ----

  // Whether some version that the old description speaks has it.
  // First_ to last_, at most kMaxVersions.
  bool old_peers_see(const Life& life) const {
    for (std::uint16_t v = first_; v <= last_; ++v) {
      if (life.alive(v)) return true;
    }
    return false;
  }
  // Versions that both ends list are those that old peers can agree on.
  bool same_for_old_peers(const Life& a, const Life& b) const {
    for (std::uint16_t v = first_; v <= last_; ++v) {
      if (a.alive(v) != b.alive(v)) return false;
    }
    return true;
  }
  // A life in the words of the language.
  static std::string shown(const Life& life) {
    if (life.whole()) return "all versions";
    std::string out = fmt::format("since {}", life.since);
    if (life.until != 0) out += fmt::format(" until {}", life.until);
    return out;
  }

  // Pairs items of one list by name. An item that is gone or new is judged by its life; the order
  // of the items that stay is compared, because codes are numbered in it.
  template <class Item, class Inner>
  void items(const std::vector<Item>& a, const std::vector<Item>& b, const std::string& where,
             std::string_view what, const Inner& inner) {
    // The place, in the new list, of the last item that was found: an item before it has moved.
    std::size_t furthest = 0;
    std::string behind;
    // Loop over the old list: each item is found in the new one, or is gone.
    for (const Item& old_item : a) {
      const std::string place = joined(where, what, old_item.name);
      const auto found = std::find_if(
          b.begin(), b.end(), [&](const Item& other) { return other.name == old_item.name; });
      if (found == b.end()) {
        if (old_peers_see(old_item.life)) {
          add(Impact::breaks, place, "it is gone",
              fmt::format("put it back with `until {}`", next_));
        } else {
          harmless(place, "it is gone, and no version that was spoken had it");
        }
        continue;
      }
      if (!same_for_old_peers(old_item.life, found->life)) {
        add(Impact::breaks, place,
            fmt::format("its life span changed from {} to {}", shown(old_item.life),
                        shown(found->life)),
            fmt::format("what versions up to {} have stays as it is", last_));
      } else if (old_item.life != found->life) {
        harmless(place, fmt::format("it lives {} now", shown(found->life)));
      }
      const auto index = static_cast<std::size_t>(found - b.begin());
      // Only items that an old peer knows are numbered for it: others move freely.
      if (old_peers_see(old_item.life)) {
        if (index < furthest) {
          add(Impact::breaks, place, fmt::format("it moved before {}", behind),
              "keep the order; what is new stands anywhere with a `since`");
        } else {
          furthest = index;
          behind = found->name;
        }
      }
      inner(old_item, *found, place);
    }
    // Loop over the new list: items that the old one lacks.
    for (const Item& item : b) {
      const bool known = std::any_of(a.begin(), a.end(),
                                     [&](const Item& other) { return other.name == item.name; });
      if (known) continue;
      const std::string place = joined(where, what, item.name);
      if (!old_peers_see(item.life)) {
        harmless(place, fmt::format("it is new, {}", shown(item.life)));
      } else {
        add(Impact::needs_since, place, "it is new, and versions of old peers would have it",
            after_.version > last_
                ? fmt::format("write `since {}` after it", next_)
                : fmt::format("raise the protocol's version to {0} and write `since {0}` after it",
                              next_));
      }
    }
  }

  // ---- declarations ----

  // Delivery and repeat are part of the digest; the priority is the sender's own business.
  void channel(const schema::Channel& a, const schema::Channel& b, const std::string& where) {
    if (a.delivery != b.delivery || a.repeat != b.repeat) {
      add(Impact::breaks, where,
          fmt::format("its delivery changed from {} to {}", delivery_text(a), delivery_text(b)),
          "add a new channel with `since`");
    }
    if (a.high != b.high || a.bulk != b.bulk) harmless(where, "its priority changed");
    // Channels are named by number on the wire, so their places must agree.
    const auto place = [](const Protocol& protocol, const schema::Channel& channel) {
      return &channel - protocol.channels.data();
    };
    if (place(before_, a) != place(after_, b)) {
      add(Impact::breaks, where, "its number changed",
          "channels are numbered in order: put new ones behind, leave old ones in place");
    }
    doc(a.doc, b.doc, where);
  }
  // The words as in the description.
  static std::string delivery_text(const schema::Channel& channel) {
    std::string out(name_of(channel.delivery));
    if (channel.repeat > 0) out += fmt::format(" repeat {}", channel.repeat);
    return out;
  }

  // Role, direction, channel, rate and authority are all in the digest: each change of them breaks.
  void message(const schema::MessageType& a, const schema::MessageType& b,
               const std::string& where) {
    // Message types are numbered, too, and numbers are never used again: a changed message is a
    // new one.
    const auto changed = [&](const std::string& what, const std::string& from,
                             const std::string& to) {
      add(Impact::breaks, where, fmt::format("its {} changed from {} to {}", what, from, to),
          fmt::format("keep {} as it was `until {}` and declare a new message `since {}`", a.name,
                      next_, next_));
    };
    const std::string& from = before_.channels[a.channel].name;
    const std::string& to = after_.channels[b.channel].name;
    if (a.direction != b.direction) {
      changed("direction", std::string(name_of(a.direction)), std::string(name_of(b.direction)));
    }
    if (from != to) changed("channel", from, to);
    if (a.at_most_per_second != b.at_most_per_second) {
      changed("rate", rate_text(a), rate_text(b));
    }
    if (a.split != b.split) changed("splitting", a.split ? "on" : "off", b.split ? "on" : "off");
    if (a.owner_field != b.owner_field) {
      changed("owner", a.owner_field.empty() ? "anybody" : a.owner_field,
              b.owner_field.empty() ? "anybody" : b.owner_field);
    }
    if (a.role != b.role) changed("kind", "message", "request or back");
    doc(a.doc, b.doc, where);
    if (a.role == schema::MessageRole::answer && b.role == a.role &&
        refusable(before_, a) != refusable(after_, b)) {
      // The library writes the cases of an answer: a description cannot give them `since`.
      return add(Impact::breaks, where,
                 refusable(after_, b) ? "it can be a refusal now" : "it can be no refusal any more",
                 fmt::format("declare a new request `since {}`", next_));
    }
    fields(a.fields, b.fields, where);
  }
  static bool refusable(const Protocol& protocol, const schema::MessageType& answer) {
    return protocol.one_ofs[answer.fields.front().type.index].options.size() > 1;
  }
  template <class Limited>
  static std::string rate_text(const Limited& limited) {
    return limited.at_most_per_second == 0 ? "no limit"
                                           : fmt::format("{}/s", limited.at_most_per_second);
  }

  // Fields of a record, a message or an entity that travel, then those that do not.
  void fields(const std::vector<Field>& a, const std::vector<Field>& b, const std::string& where) {
    // First those that travel, paired by name; then local fields, about which both ends need not
    // agree.
    items(travelling(a), travelling(b), where, "field",
          [&](const Field& old_field, const Field& field, const std::string& place) {
            words({old_field, a}, {field, b}, place);
            type(old_field.type, field.type, place);
          });
    for (const Field& field : b) {
      if (field.words.local == schema::Local::no) continue;
      const auto old = std::find_if(a.begin(), a.end(),
                                    [&](const Field& each) { return each.name == field.name; });
      const std::string place = joined(where, "field", field.name);
      if (old == a.end()) {
        harmless(place, "it is new and never travels");
      } else if (old->words.local != schema::Local::no) {
        local(*old, field, place);
      }
    }
    for (const Field& field : a) {
      if (field.words.local != schema::Local::no &&
          std::none_of(b.begin(), b.end(), [&](const Field& f) { return f.name == field.name; })) {
        harmless(joined(where, "field", field.name), "it is gone and never travelled");
      }
    }
  }
  // Fields that stay at one end have any type, and nothing else about them can break.
  void local(const Field& a, const Field& b, const std::string& where) {
    doc(a.doc, b.doc, where);
    const auto type = [](const Protocol& protocol, const Field& field) {
      return field.untyped ? "a type of the game" : "`" + type_text(protocol, field.type) + "`";
    };
    if (type(before_, a) != type(after_, b)) {
      harmless(where, fmt::format("its type changed from {} to {}; it never travels",
                                  type(before_, a), type(after_, b)));
    }
    if (a.words.local != b.words.local) {
      harmless(where, b.words.local == schema::Local::server ? "the server has it now"
                                                             : "clients have it now");
    }
    if (a.written_default != b.written_default) harmless(where, "its default changed");
  }
  // The fields that the digest covers: fields of the game alone are left out.
  static std::vector<Field> travelling(const std::vector<Field>& all) {
    std::vector<Field> out;
    for (const Field& field : all) {
      if (field.words.local == schema::Local::no) out.push_back(field);
    }
    return out;
  }

  // A field among those that were declared with it.
  struct Declared {
    const Field& field;
    const std::vector<Field>& all;
  };
  // What it follows in a version, as a text.
  static std::string followed(const Declared& declared, std::uint16_t version) {
    const auto* follow = schema::follow_in(declared.field.words, declared.all, version);
    if (follow == nullptr) return {};
    return fmt::format("{} {} {}/{}", follow->speed, follow->along, follow->within.num,
                       follow->within.den);
  }

  // Defaults, units and `smooth` change no bit. Words that change the layout of snapshots break.
  void words(const Declared& from, const Declared& to, const std::string& where) {
    const Field& a = from.field;
    const Field& b = to.field;
    doc(a.doc, b.doc, where);
    if (a.written_default != b.written_default) harmless(where, "its default changed");
    if (a.words.smooth != b.words.smooth) harmless(where, "`smooth` changed");
    if (a.words.freshness != b.words.freshness) {
      harmless(where, fmt::format("its freshness changed from {} to {}", name_of(a.words.freshness),
                                  name_of(b.words.freshness)));
    }
    if (a.unit != b.unit) {
      // Not in the digest: only people can tell metres from feet.
      harmless(where,
               fmt::format("its unit changed from {} to {}: the bits stay, make sure that "
                           "their meaning does",
                           a.unit.empty() ? "none" : a.unit, b.unit.empty() ? "none" : b.unit));
    }
    const auto breaks = [&](std::string what) {
      add(Impact::breaks, where, std::move(what),
          fmt::format("keep it as it was `until {0}` and declare a new field `since {0}`", next_));
    };
    if (a.words.at_spawn != b.words.at_spawn || a.words.owner_only != b.words.owner_only) {
      breaks("when or to whom it travels changed");
    }
    if (a.words.relative_to != b.words.relative_to) breaks("it counts from something else");
    for (std::uint16_t v = first_; v <= last_; ++v) {
      const bool there = a.life.alive(v) && b.life.alive(v);
      if (!there || followed(from, v) == followed(to, v)) continue;
      // Both ends predict by it.
      return breaks(fmt::format("it follows something else in version {}", v));
    }
    // Of later versions alone: only their peers predict it so.
    if (followed(from, after_.version) != followed(to, after_.version)) {
      harmless(where, "what it follows changed, for versions that are new");
    }
  }

  // ---- types ----

  // Types are compared by structure, not by name: a renamed record with the same fields is the
  // same.
  void type(const Type& a, const Type& b, const std::string& where) {
    // Types of different kinds have nothing to compare: the change is reported whole.
    if (a.kind != b.kind) return changed_type(a, b, where);
    switch (a.kind) {
      case TypeKind::enumeration:
        return options(before_.enums[a.index], after_.enums[b.index], where, "value");
      case TypeKind::flags:
        return options(before_.flags[a.index], after_.flags[b.index], where, "flag");
      case TypeKind::one_of:
        return options(before_.one_ofs[a.index], after_.one_ofs[b.index], where, "case");
      case TypeKind::record: {
        const auto& from = before_.records[a.index];
        const auto& to = after_.records[b.index];
        if (!seen_.insert({from.name, to.name}).second) return;  // told where it was met first
        const std::string place = "record " + to.name;
        doc(from.doc, to.doc, place);
        return fields(from.fields, to.fields, place);
      }
      case TypeKind::ref:
        if (before_.entities[a.index].name != after_.entities[b.index].name) {
          changed_type(a, b, where);
        }
        return;
      case TypeKind::peer: return;  // its limit is compared with the protocol
      case TypeKind::list:
      case TypeKind::grid:
      case TypeKind::vec:
      case TypeKind::maybe:
        if (a.limit != b.limit || a.height != b.height) return changed_type(a, b, where);
        return type(a.element.front(), b.element.front(), where);
      default:
        // Numbers, texts and the like: their canonical text names all that decides bits.
        if (schema::type_text(before_, a) != schema::type_text(after_, b)) {
          changed_type(a, b, where);
        }
    }
  }
  // A field cannot change its type. A new field beside it can take its place.
  void changed_type(const Type& a, const Type& b, const std::string& where) {
    add(Impact::breaks, where,
        fmt::format("its type changed from `{}` to `{}`", schema::type_text(before_, a),
                    schema::type_text(after_, b)),
        fmt::format("keep `{}` with `until {}` and add a field of the new type with `since {}`",
                    schema::type_text(before_, a), next_, next_));
  }

  // Named enums are compared once, wherever they are used; those inside a field at their place.
  void options(const Options& a, const Options& b, const std::string& where,
               std::string_view what) {
    // `seen_` holds pairs: a type that is used twice is reported once.
    const bool shared = a.inside.empty() && b.inside.empty();
    if (shared && !seen_.insert({a.name, b.name}).second) return;
    const std::string place = shared ? b.name : where;
    doc(a.doc, b.doc, place);
    items(a.options, b.options, place, what,
          [&](const schema::Option& from, const schema::Option& to, const std::string& inside) {
            doc(from.doc, to.doc, inside);
            const auto stand_in = [](const Options& all, const schema::Option& option) {
              return all.options[option.stand_in].name;
            };
            if (stand_in(a, from) != stand_in(b, to)) {
              harmless(inside, fmt::format("`{}` stands in for it now", stand_in(b, to)));
            }
            if (from.type.empty() != to.type.empty()) {
              add(Impact::breaks, inside, "what it carries changed",
                  fmt::format("add a new case with `since {}`", next_));
            } else if (!from.type.empty()) {
              type(from.type.front(), to.type.front(), inside);
            }
          });
  }

  // The law of the header, whatever was misjudged above: digests decide. `first`: the first change
  // that is about a declaration.
  void held_to_digests(std::size_t first) {
    const bool fine = std::all_of(changes_.begin(), changes_.end(), [](const Change& change) {
      return change.impact == Impact::harmless;
    });
    // The first version whose digests differ proves that some change breaks.
    std::uint16_t differs = 0;
    for (std::uint16_t v = first_; v <= last_ && differs == 0; ++v) {
      if (schema::digest_of(before_, v) != schema::digest_of(after_, v)) differs = v;
    }
    if (fine && differs != 0) {
      add(Impact::breaks, "protocol", fmt::format("version {} has another digest", differs),
          "compare the listings of both");
    }
    if (fine || differs != 0) return;
    for (std::size_t i = first; i < changes_.size(); ++i) {
      if (changes_[i].impact == Impact::harmless) continue;
      // As of a field that ended before the message that has it began.
      changes_[i] = {Impact::harmless, changes_[i].where,
                     changes_[i].what + "; nothing that old peers send has it", ""};
    }
  }

  const Protocol& before_;
  const Protocol& after_;
  // Versions first_ to last_ are those that both ends may agree on; next_ is the first version
  // that can hold something new.
  std::uint16_t first_;
  std::uint16_t last_;
  int next_;
  std::set<std::pair<std::string, std::string>> seen_;
  std::vector<Change> changes_;
};

}  // namespace

std::vector<Change> compare(const Protocol& before, const Protocol& after) {
  return Comparison(before, after).changes();
}

// Versions of the older protocol that the newer one does not speak, or speaks with another digest.
std::vector<std::uint16_t> refused_versions(const Protocol& before, const Protocol& after) {
  std::vector<std::uint16_t> refused;
  for (std::uint16_t v = schema::oldest_version(before); v <= before.version; ++v) {
    const bool spoken =
        before.name == after.name && v >= schema::oldest_version(after) && v <= after.version;
    if (!spoken || digest_of(before, v) != digest_of(after, v)) refused.push_back(v);
  }
  return refused;
}

}  // namespace kwind::language
