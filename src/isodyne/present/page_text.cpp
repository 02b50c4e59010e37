#include "isodyne/present/page_text.h"

#include "isodyne/core/text.h"

namespace isodyne::present {

namespace {

constexpr const char* kStyle = R"(
:root{--ink:#1d2730;--soft:#5b6770;--line:#d9dfe3;--held:#00694d;--broken:#a33f00;--open:#6b6000}
*{box-sizing:border-box}
body{font:15px/1.45 "DejaVu Sans",Verdana,sans-serif;color:var(--ink);margin:0 auto;max-width:1240px;padding:24px}
h1{font-size:24px;margin:0 0 4px}h2{font-size:19px;margin:36px 0 8px;border-top:2px solid var(--ink);padding-top:12px}h3{font-size:15px;margin:22px 0 6px}
.soft{color:var(--soft)}code,pre{font:13px/1.45 "DejaVu Sans Mono",monospace}
pre{background:#f4f6f7;padding:10px 12px;overflow-x:auto;white-space:pre-wrap}
table{border-collapse:collapse;width:100%;font-size:13.5px}
th,td{text-align:left;vertical-align:top;padding:5px 10px 5px 0;border-bottom:1px solid var(--line)}
th{font-weight:600;color:var(--soft);white-space:nowrap}td.n,th.n{text-align:right;white-space:nowrap;font-variant-numeric:tabular-nums}
.verdicts td:last-child{width:46%}
.frame{overflow-x:auto}.many th:nth-child(n+3){writing-mode:vertical-rl;transform:rotate(180deg);vertical-align:top;padding:8px 4px}.many th a{text-decoration:none}.many td:nth-child(n+3){font-size:12px;padding-right:4px;width:7em}.many .v{white-space:normal}
.v{font-weight:700;white-space:nowrap}.held{color:var(--held)}.broken{color:var(--broken)}.open{color:var(--open)}
.held::before{content:"\2713\00a0"}.broken::before{content:"\2717\00a0"}.open::before{content:"\2013\00a0"}
.note{border-left:4px solid var(--broken);padding:6px 12px;background:#fbf3ee;margin:10px 0}
figure{margin:12px 0}figure img{width:100%;height:auto}
details{margin:6px 0}summary{cursor:pointer}
.charts{display:none}.chart{width:100%;margin:2px 0}.live .charts{display:block}.live .still{display:none}.tools button{font:inherit;color:inherit;background:#f4f6f7;border:1px solid var(--line);border-radius:4px;padding:1px 10px;cursor:pointer}
a{color:#00557a}html:not(.live) .tools{display:none}.head{display:flex;justify-content:space-between;font-size:12px;margin:8px 4px 0 0;color:var(--soft)}.head span:first-child{padding-left:80px}.dygraph-axis-label{font-size:11.5px;color:#333}
@page{size:A4;margin:13mm}
@media print{.many td:nth-child(n+3){width:auto;font-size:9px}body{max-width:none;padding:0;font-size:11px}code,pre{font-size:10px}table{font-size:10.5px}h2.run:not(.first){break-before:page}figure,tr,h3,.moment{break-inside:avoid}h3{break-after:avoid}details:not([open]),.screen,.live .charts,.tools,summary{display:none}.live .still{display:block}a{color:inherit;text-decoration:none}}
)";

}  // namespace

const char* page_style() {
  return kStyle;
}

std::string escaped(const std::string& text) {
  std::string out;
  for (const char c : printable(text)) {
    switch (c) {
      case '&':
        out += "&amp;";
        break;
      case '<':
        out += "&lt;";
        break;
      case '>':
        out += "&gt;";
        break;
      case '"':
        out += "&quot;";
        break;
      default:
        if (static_cast<unsigned char>(c) >= 0x20 || c == '\n' || c == '\t') out += c;
    }
  }
  return out;
}

}  // namespace isodyne::present
