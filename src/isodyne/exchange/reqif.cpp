#include "isodyne/exchange/reqif.h"

#include <algorithm>
#include <map>
#include <set>
#include <sstream>

#include <fmt/format.h>
#include <pugixml.hpp>

#include "isodyne/core/text.h"
#include "isodyne/exchange/xml.h"
#include "isodyne/lang/parser.h"

namespace isodyne::exchange {

namespace {

constexpr const char* kNamespace = "http://www.omg.org/spec/ReqIF/20110401/reqif.xsd";
/// The same run twice gives the same file, so there is no clock in it.
constexpr const char* kChanged = "2000-01-01T00:00:00Z";

struct AttributeEntry {
  const char *id, *name;
};
constexpr AttributeEntry kAttributes[] = {{"isodyne-attribute-foreign-id", "ReqIF.ForeignID"},
                                          {"isodyne-attribute-text", "ReqIF.Text"},
                                          {"isodyne-attribute-source", "Source"},
                                          {"isodyne-attribute-formula", "Formula"}};

/// An XML identifier (NCName) for a name of ours.
std::string identifier(const std::string& name) {
  std::string id = "isodyne-";
  for (const char c : name) {
    const bool plain =
        (c >= 'a' && c <= 'z') || (c >= 'A' && c <= 'Z') || (c >= '0' && c <= '9') || c == '-' || c == '.' || c == '_';
    id += plain ? std::string(1, c) : fmt::format("_{:02x}", static_cast<unsigned char>(c));
  }
  return id;
}

pugi::xml_node element(pugi::xml_node parent, const char* name, const std::string& id, const std::string& long_name) {
  pugi::xml_node e = parent.append_child(name);
  e.append_attribute("IDENTIFIER") = printable(id).c_str();
  e.append_attribute("LAST-CHANGE") = kChanged;
  if (!long_name.empty()) e.append_attribute("LONG-NAME") = printable(long_name).c_str();
  return e;
}

}  // namespace

std::string to_reqif(const program::Program& p) {
  pugi::xml_document document;
  pugi::xml_node declaration = document.append_child(pugi::node_declaration);
  declaration.append_attribute("version") = "1.0";
  declaration.append_attribute("encoding") = "UTF-8";
  pugi::xml_node root = document.append_child("REQ-IF");
  root.append_attribute("xmlns") = kNamespace;
  pugi::xml_node header = root.append_child("THE-HEADER").append_child("REQ-IF-HEADER");
  header.append_attribute("IDENTIFIER") = identifier("header-" + p.name).c_str();
  header.append_child("CREATION-TIME").text() = kChanged;
  header.append_child("REQ-IF-TOOL-ID").text() = "Isodyne";
  header.append_child("REQ-IF-VERSION").text() = "1.0";
  header.append_child("SOURCE-TOOL-ID").text() = "Isodyne";
  header.append_child("TITLE").text() = p.name.c_str();
  pugi::xml_node content = root.append_child("CORE-CONTENT").append_child("REQ-IF-CONTENT");
  pugi::xml_node text =
      element(content.append_child("DATATYPES"), "DATATYPE-DEFINITION-STRING", "isodyne-text", "text");
  text.append_attribute("MAX-LENGTH") = 1'000'000;
  pugi::xml_node types = content.append_child("SPEC-TYPES");
  pugi::xml_node attributes =
      element(types, "SPEC-OBJECT-TYPE", "isodyne-requirement", "Requirement").append_child("SPEC-ATTRIBUTES");
  for (const AttributeEntry& a : kAttributes)
    element(attributes, "ATTRIBUTE-DEFINITION-STRING", a.id, a.name)
        .append_child("TYPE")
        .append_child("DATATYPE-DEFINITION-STRING-REF")
        .text() = "isodyne-text";
  element(types, "SPECIFICATION-TYPE", "isodyne-specification-type", "Specification");
  pugi::xml_node objects = content.append_child("SPEC-OBJECTS");
  std::vector<std::string> ids;
  for (const program::Requirement& r : p.requirements) {
    ids.push_back(r.id.empty() ? identifier(r.name) : r.id);
    pugi::xml_node o = element(objects, "SPEC-OBJECT", ids.back(), r.name);
    pugi::xml_node values = o.append_child("VALUES");
    const std::string contents[] = {r.name, r.doc, r.source, r.by_review ? "" : r.formula};
    for (std::size_t i = 0; i < std::size(kAttributes); ++i) {
      if (contents[i].empty()) continue;
      pugi::xml_node v = values.append_child("ATTRIBUTE-VALUE-STRING");
      v.append_attribute("THE-VALUE") = printable(contents[i]).c_str();
      v.append_child("DEFINITION").append_child("ATTRIBUTE-DEFINITION-STRING-REF").text() = kAttributes[i].id;
    }
    o.append_child("TYPE").append_child("SPEC-OBJECT-TYPE-REF").text() = "isodyne-requirement";
  }
  pugi::xml_node specification =
      element(content.append_child("SPECIFICATIONS"), "SPECIFICATION", identifier("specification-" + p.name), p.name);
  specification.append_child("TYPE").append_child("SPECIFICATION-TYPE-REF").text() = "isodyne-specification-type";
  pugi::xml_node children = specification.append_child("CHILDREN");
  for (std::size_t i = 0; i < ids.size(); ++i)
    element(children, "SPEC-HIERARCHY", identifier(fmt::format("place-{}", p.requirements[i].name)), "")
        .append_child("OBJECT")
        .append_child("SPEC-OBJECT-REF")
        .text() = printable(ids[i]).c_str();
  std::ostringstream out;
  document.save(out, "  ", pugi::format_indent, pugi::encoding_utf8);
  return out.str();
}

namespace {

/// All text below a node, markup left out; by a walk, so that depth costs no stack.
std::string plain_text(const pugi::xml_node& node) {
  std::string all;
  for (pugi::xml_node at = node.first_child(); at;) {
    if (at.type() == pugi::node_pcdata || at.type() == pugi::node_cdata) all += std::string(at.value()) + " ";
    if (at.first_child()) {
      at = at.first_child();
      continue;
    }
    while (at && at != node && !at.next_sibling()) at = at.parent();
    if (!at || at == node) break;
    at = at.next_sibling();
  }
  return one_line(all);
}

/// A name that our text can have: no blanks, no braces.
std::string usable_name(const std::string& wanted) {
  std::string name;
  for (const char c : wanted) {
    const bool good = (c >= 'a' && c <= 'z') || (c >= 'A' && c <= 'Z') || (c >= '0' && c <= '9') || c == '-' ||
                      c == '.' || c == '_' || (c == '/' && !name.empty());
    if (good)
      name += c;
    else if (!name.empty() && name.back() != '-')
      name += '-';
  }
  while (!name.empty() && (name.back() == '-' || name.back() == '.' || name.back() == '/')) name.pop_back();
  const bool letter = !name.empty() && ((name[0] >= 'a' && name[0] <= 'z') || (name[0] >= 'A' && name[0] <= 'Z'));
  return name.empty() ? "R" : letter ? name : "R-" + name;
}

/// IDENTIFIER of each attribute → its LONG-NAME.
std::map<std::string, std::string> attribute_names(const pugi::xml_node& content) {
  std::map<std::string, std::string> names;
  for (const pugi::xml_node& type : child_called(content, "SPEC-TYPES").children()) {
    for (const pugi::xml_node& a : child_called(type, "SPEC-ATTRIBUTES").children())
      names[a.attribute("IDENTIFIER").value()] = a.attribute("LONG-NAME").value();
  }
  return names;
}

/// Whether a formula of another file is one of our language, and nothing more than that.
bool readable(const std::string& formula) {
  Sources sources;
  Diagnostics diagnostics;
  lang::Document read;
  lang::parse(sources, sources.add("formula", fmt::format("requirement R {{\n  {}\n}}\n", formula)), diagnostics, read);
  const bool one = read.requirements.size() == 1 && read.requirements[0].check != nullptr;
  return one && !diagnostics.has_errors() && formula.find_first_of("{}#") == std::string::npos;
}

ExchangedRequirement object(const pugi::xml_node& o, const std::map<std::string, std::string>& names) {
  ExchangedRequirement r;
  r.id = o.attribute("IDENTIFIER").value();
  std::string foreign, title;
  for (const pugi::xml_node& v : child_called(o, "VALUES").children()) {
    const auto name = names.find(plain_text(child_called(v, "DEFINITION")));
    if (name == names.end()) continue;
    const pugi::xml_attribute simple = v.attribute("THE-VALUE");
    const std::string value = printable(simple ? one_line(simple.value()) : plain_text(child_called(v, "THE-VALUE")));
    if (name->second == "ReqIF.ForeignID") foreign = value;
    if (name->second == "ReqIF.Name" || name->second == "ReqIF.ChapterName") title = value;
    if (name->second == "ReqIF.Text" || name->second == "ReqIF.Description") r.text = value;
    if (name->second == "Source") r.source = value;
    if (name->second == "Formula") r.formula = value;
  }
  if (r.text.empty()) r.text = title.empty() ? printable(one_line(o.attribute("DESC").value())) : title;
  if (!r.formula.empty() && !readable(r.formula)) std::swap(r.formula, r.unread);
  const std::string long_name = o.attribute("LONG-NAME").value();
  r.name = usable_name(!foreign.empty() ? foreign : !long_name.empty() ? long_name : r.id);
  return r;
}

}  // namespace

Result<std::vector<ExchangedRequirement>> from_reqif(const std::string& file, const std::string& text) {
  pugi::xml_document document;
  const Status read = read_xml(file, text, document);
  if (!read) return read.failure();
  const pugi::xml_node root = child_called(document, "REQ-IF");
  const pugi::xml_node content = child_called(child_called(root, "CORE-CONTENT"), "REQ-IF-CONTENT");
  if (!content)
    return Failure{"cannot read", file, "it is XML, but not ReqIF: there is no REQ-IF with a CORE-CONTENT in it"};
  const auto names = attribute_names(content);
  std::vector<ExchangedRequirement> all;
  std::set<std::string> taken, ids;
  for (const pugi::xml_node& o : child_called(content, "SPEC-OBJECTS").children()) {
    if (local_name(o) != "SPEC-OBJECT") continue;
    if (all.size() >= kMostReqifObjects) return Failure{"cannot read", file, "it has more than 100,000 objects"};
    ExchangedRequirement r = object(o, names);
    if (r.id.empty()) return Failure{"cannot read", file, fmt::format("object {} has no IDENTIFIER", all.size() + 1)};
    if (!ids.insert(r.id).second)
      return Failure{"cannot read", file, fmt::format("there are two objects with the IDENTIFIER {}", r.id)};
    const std::string wanted = r.name;
    for (int n = 2; !taken.insert(r.name).second; ++n) r.name = fmt::format("{}-{}", wanted, n);
    all.push_back(std::move(r));
  }
  return all;
}

namespace {
/// A text between quotes: without what would end it.
std::string in_quotes(std::string text) {
  std::replace(text.begin(), text.end(), '"', '\'');
  return "\"" + text + "\"";
}
}  // namespace

std::string rules_text(const std::vector<ExchangedRequirement>& requirements, const std::string& from) {
  std::string text = fmt::format("# Requirements taken over from {}. Those `by review` have no formula yet.\n", from);
  for (const ExchangedRequirement& r : requirements) {
    text += "\n";
    if (!r.text.empty()) text += "## " + r.text + "\n";
    text += fmt::format("requirement {} {{\n  id {}\n", r.name, in_quotes(r.id));
    if (!r.source.empty()) text += fmt::format("  source {}\n", in_quotes(r.source));
    if (!r.unread.empty()) text += "  # this formula of it is not in our language: " + r.unread + "\n";
    text += "  " + (r.formula.empty() ? "by review" : r.formula) + "\n}\n";
  }
  return text;
}

}  // namespace isodyne::exchange
