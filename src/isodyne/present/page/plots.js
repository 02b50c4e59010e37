// The plots of a report: one chart a panel, all charts of a run over the same stretch of time. Data come as two levels:
// a coarse one for the whole run, a fine one for what is zoomed into, which stands behind everything else and may not be
// there yet. The chart library is dygraphs.
(function () {
  "use strict";
  var html = document.documentElement;
  html.className += " live";

  function bytes(text) {
    var raw = atob(text), all = new Uint8Array(raw.length);
    for (var i = 0; i < raw.length; ++i) all[i] = raw.charCodeAt(i);
    return all.buffer;
  }

  // A level as arrays; decoded when it is first looked at. Times are numbers of steps, or seconds.
  function open(level, step) {
    if (!level.time) {
      level.time = level.n ? Float64Array.from(new Uint32Array(bytes(level.n)), function (n) { return n * step; })
                           : new Float64Array(bytes(level.t));
      level.values = level.v.map(function (v, c) {
        var base = level.base[c];
        return Float64Array.from(new Float32Array(bytes(v)), function (d) { return d + base; });
      });
      level.t = level.n = level.v = null;
    }
    return level;
  }

  function finer(panel) {
    // While the page is being read a script may be half there.
    var script = panel.finer || document.readyState === "loading" ? null : document.getElementById(panel.fine);
    if (script) panel.finer = JSON.parse(script.textContent);
    return panel.finer;
  }

  function before(time, at) { // how many are before `at`
    var low = 0, high = time.length;
    while (low < high) {
      var middle = (low + high) >> 1;
      if (time[middle] < at) low = middle + 1; else high = middle;
    }
    return low;
  }

  // Rows over a stretch, with one on each side; infinite stands for "no value here, the line goes on". The finer ones
  // where a column of the coarse ones would be wider than a pixel.
  function rows(panel, step, from, to) {
    var pixel = (to - from) / Math.max(1, (panel.box ? panel.box.clientWidth : 1000) - 130);
    var level = panel.coarse.column > pixel && finer(panel) ? panel.finer : panel.coarse;
    panel.missing = level.column > pixel ? level.column : 0;
    open(level, step);
    var a = before(level.time, from), b = before(level.time, to);
    a = Math.max(0, a - 1);
    b = Math.min(level.time.length, b + 2);
    var all = [], lanes = panel.lanes ? level.values.length : 0;
    for (var i = a; i < b; ++i) {
      var row = [level.time[i]];
      for (var c = 0; c < level.values.length; ++c) {
        var v = level.values[c][i];
        row.push(v === Infinity ? null : lanes ? lanes - 1 - c + 0.7 * v : v);
      }
      all.push(row);
    }
    return all;
  }

  // The chart library takes labels for HTML.
  function plain(text) {
    return String(text).replace(/[&<>"']/g, function (c) { return "&#" + c.charCodeAt(0) + ";"; });
  }

  function short(name) {
    return name.length > 17 ? name.slice(0, 16) + "…" : name;
  }

  function number(v) {
    var written = Math.abs(v) >= 1e6 && Math.abs(v) < 1e12 ? v.toFixed(0) : v.toPrecision(6);
    return String(Number(written));
  }

  // "43.2 s", "12 h 53 min 43.2 s": as everywhere else.
  function moment(t) {
    if (Math.abs(t) < 3600) return number(t) + " s";
    var all = Math.round(Math.abs(t) * 1e6) / 1e6, h = Math.floor(all / 3600), min = Math.floor(all % 3600 / 60);
    var s = Math.round((all - 3600 * h - 60 * min) * 1e6) / 1e6;
    return (t < 0 ? "-" : "") + h + " h" + (min || s ? " " + min + " min" : "") + (s ? " " + s + " s" : "");
  }

  // Ticks at round numbers of the unit that gives readable ones, with as many digits as tell them apart.
  function ticksOfTime(from, to, pixels) {
    if (!(to > from)) return [{ v: from, label: moment(from) }];
    var length = to - from, unit = length > 18000 ? [3600, " h"] : length > 300 ? [60, " min"] : [1, " s"];
    var rough = length / unit[0] / Math.max(2, pixels / 100), power = Math.pow(10, Math.floor(Math.log10(rough)));
    var step = [1, 2, 5, 10].map(function (m) { return m * power; }).filter(function (s) { return s >= rough; })[0];
    var digits = Math.max(0, -Math.floor(Math.log10(step) + 1e-9)), all = [];
    for (var i = Math.ceil(from / unit[0] / step); i * step * unit[0] <= to; ++i)
      all.push({ v: i * step * unit[0], label: (i * step).toFixed(digits) + unit[1] });
    return all;
  }

  function Run(data, place) {
    this.data = data;
    this.charts = [];
    this.from = data.begin;
    this.to = data.end;
    this.cursor = null;
    var run = this;
    data.figures.forEach(function (figure) {
      var head = document.createElement("h3");
      head.textContent = figure.title;
      place.appendChild(head);
      figure.panels.forEach(function (panel, i) {
        panel.first = i === 0;
        run.wait(panel, place, i + 1 === figure.panels.length);
      });
    });
    var all = document.createElement("button");
    all.textContent = "Whole run";
    all.onclick = function () { run.cursor = null; run.show(data.begin, data.end); };
    this.tools = place.parentNode.querySelector(".tools");
    this.tools.appendChild(all);
    this.note = document.createElement("span");
    this.note.className = "missing";
    this.tools.appendChild(this.note);
  }

  // The first charts are made at once, others when they come into sight: a page with fifty of them opens as quickly as
  // one with six.
  var kAtOnce = 6, made = 0;
  Run.prototype.wait = function (panel, place, last) {
    var head = document.createElement("div"), unit = document.createElement("span"), run = this;
    var key = document.createElement("span"), box = document.createElement("div");
    head.className = "head";
    unit.textContent = panel.unit ? "in " + panel.unit : "";
    panel.aside = document.createElement("span"); // limits that have no room among the curves
    head.appendChild(unit);
    head.appendChild(panel.aside);
    head.appendChild(key);
    place.appendChild(head);
    box.className = "chart";
    box.style.height = (panel.lanes ? 22 * panel.curves.length : 140) + (last ? 26 : 6) + "px";
    place.appendChild(box);
    if (++made <= kAtOnce) {
      run.charts.push(run.chart(panel, box, key, last));
      return;
    }
    new IntersectionObserver(function (seen, observer) {
      if (!seen.some(function (s) { return s.isIntersecting; })) return;
      observer.disconnect();
      run.charts.push(run.chart(panel, box, key, last));
    }, { rootMargin: "300px" }).observe(box);
  };

  Run.prototype.chart = function (panel, box, key, last) {
    var run = this, names = panel.curves.map(function (c) { return plain(c.name); });
    var axis = { axisLabelWidth: 120 }; // of all, so that the same time is at the same place
    axis.axisLabelFormatter = function (v) { return String(Number(v.toPrecision(10))); }; // no two that read the same
    if (panel.lanes) {
      axis.ticker = function () {
        return names.map(function (n, i) { return { v: names.length - 1 - i + 0.35, label: plain(short(panel.curves[i].name)) }; });
      };
      axis.valueRange = [-0.2, names.length];
      axis.drawGrid = false;
    } else if (panel.labels.length) {
      axis.ticker = function () { return panel.labels.map(function (n, i) { return { v: i, label: plain(n) }; }); };
      axis.valueRange = [-0.3, panel.labels.length - 0.7];
    } else if (panel.range) {
      axis.valueRange = run.to - run.from < 0.98 * (run.data.end - run.data.begin) ? null : panel.range;
    }
    axis.valueFormatter = function (v, options, name) {
      if (panel.lanes) return v - Math.floor(v + 0.2) > 0.35 ? "true" : "false";
      if (panel.labels.length) return panel.labels[Math.round(v)] ? plain(panel.labels[Math.round(v)]) : number(v);
      return number(v) + (panel.unit ? " " + plain(panel.unit) : "");
    };
    var options = {
      labels: ["t"].concat(names),
      colors: panel.curves.map(function (c, i) { return run.data.colours[i % run.data.colours.length]; }),
      dateWindow: [run.from, run.to],
      connectSeparatedPoints: true,
      legend: "always",
      labelsDiv: key,
      strokeWidth: 1.6,
      yRangePad: 8,
      highlightCircleSize: 3,
      gridLineColor: "#e4e8eb",
      axisLineColor: "#8a949b",
      animatedZooms: false,
      axes: {
        x: { drawAxis: last, valueFormatter: moment, ticker: ticksOfTime, axisLabelWidth: 80 },
        y: axis
      },
      series: {},
      underlayCallback: function (canvas, area, g) { run.under(panel, canvas, area, g); },
      zoomCallback: function (from, to) { run.show(from, to); },
      drawCallback: function (g, first) { if (!first) run.follow(g); },
      highlightCallback: function (event, t, points, row) { run.point(chart, t); },
      unhighlightCallback: function () { run.point(chart, null); }
    };
    panel.curves.forEach(function (c) { options.series[plain(c.name)] = { stepPlot: c.steps }; });
    panel.box = box;
    var chart = new Dygraph(box, rows(panel, run.data.step, run.from, run.to), options);
    chart.panel = panel;
    return chart;
  };

  // Closer up than the values in this page are: lines between them are not the signal.
  Run.prototype.say = function () {
    var most = 0;
    this.charts.forEach(function (c) { most = Math.max(most, c.panel.missing || 0); });
    this.note.textContent = most === 0 ? "" :
      " Closer up than this page: of each " + number(most) + " s it has the first, the least, the greatest and the last " +
      "value, and lines between them. For every value: isodyne figure RUN SIGNAL --from \"" + number(this.from) +
      " s\" --to \"" + number(this.to) + " s\"";
  };

  // Bands of faults and breaches, what the scenario did, limits: below the curves.
  Run.prototype.under = function (panel, canvas, area, g) {
    var data = this.data, right = area.x + area.w;
    function x(t) { return Math.max(area.x, Math.min(right, g.toDomXCoord(t))); }
    function band(b, colour, height) {
      var a = x(b.begin), e = x(b.end);
      if (e < area.x || a > right || (a === e && (b.end < g.xAxisRange()[0] || b.begin > g.xAxisRange()[1]))) return;
      canvas.fillStyle = colour;
      canvas.fillRect(a, area.y, Math.max(2, e - a), height || area.h);
    }
    function line(t, colour, dashes) {
      var at = g.toDomXCoord(t);
      if (at < area.x || at > right) return;
      canvas.strokeStyle = colour;
      canvas.setLineDash(dashes);
      canvas.beginPath();
      canvas.moveTo(at, area.y);
      canvas.lineTo(at, area.y + area.h);
      canvas.stroke();
      canvas.setLineDash([]);
    }
    canvas.save();
    // As the background of panels that show what they are about; as a bar on top of the first for all of them.
    function bands(list, here, colour, bar) {
      list.forEach(function (b, i) { if (here.indexOf(i) >= 0) band(b, colour); });
      if (panel.first) list.forEach(function (b) { band(b, bar, 4); });
    }
    bands(data.faults, panel.faults, "rgba(240,228,66,0.35)", "#d8cb2c");
    bands(data.breaches, panel.breaches, "rgba(213,94,0,0.25)", "#d55e00");
    data.marks.forEach(function (m) { line(m.at, "#b9c1c7", [2, 3]); });
    if (this.cursor !== null) line(this.cursor, "#1d2730", []);
    if (panel.first) this.names(canvas, area, x);
    this.limits(panel, canvas, area, g);
    canvas.restore();
  };

  // What the bands are, in the uppermost chart; where names would lie over each other, below each other.
  Run.prototype.names = function (canvas, area, x) {
    var data = this.data, lines = [], said = {};
    canvas.font = "11px 'DejaVu Sans',Verdana,sans-serif";
    canvas.textAlign = "left";
    data.faults.map(function (b) { return { band: b, text: "fault " + b.label, colour: "#6B6000" }; }).concat(
      data.breaches.map(function (b) { return { band: b, text: b.label + " broken", colour: "#A33F00" }; })
    ).forEach(function (n) {
      var from = x(n.band.begin), to = x(n.band.end);
      if (to <= area.x || from >= area.x + area.w || said[n.text]) return;
      said[n.text] = true;
      var width = canvas.measureText(n.text).width, left = Math.min(from + 3, area.x + area.w - width - 80), row = 0;
      while (lines[row] !== undefined && lines[row] > left) ++row;
      lines[row] = left + width + 8;
      canvas.fillStyle = n.colour;
      canvas.fillText(n.text, left, area.y + area.h - 5 - 13 * row);
    });
  };

  // Where the curves of a chart are: per column of pixels, and per curve, from where to where.
  function curvesIn(g, area, panel) {
    var columns = [];
    function add(curve, x0, y0, x1, y1) {
      var from = Math.max(Math.floor(Math.min(x0, x1) - area.x), 0), to = Math.min(Math.ceil(Math.max(x0, x1) - area.x), area.w);
      for (var c = from; c <= to; ++c) {
        var at = x1 === x0 ? 1 : Math.min(1, Math.max(0, (c + area.x - x0) / (x1 - x0))), y = y0 + at * (y1 - y0);
        var column = columns[c] || (columns[c] = []), has = column[curve] || (column[curve] = [y, y]);
        has[0] = Math.min(has[0], y, x1 === x0 ? y0 : y);
        has[1] = Math.max(has[1], y, x1 === x0 ? y0 : y);
      }
    }
    panel.curves.forEach(function (curve, k) {
      var x0 = null, y0 = 0;
      for (var row = 0; row < g.numRows(); ++row) {
        var v = g.getValue(row, k + 1);
        if (v === null || isNaN(v)) continue;
        var x1 = g.toDomXCoord(g.getValue(row, 0)), y1 = g.toDomYCoord(v);
        if (x0 !== null && curve.steps) add(k, x0, y0, x1, y0);
        if (x0 !== null) add(k, curve.steps ? x1 : x0, y0, x1, y1);
        x0 = x1;
        y0 = y1;
      }
    });
    return columns;
  }

  // Whether a label from `left` on, its baseline at `base`, lies on no curve, no line and no other label.
  function free(columns, area, lines, taken, left, width, base) {
    var high = base - 11, low = base + 3;
    if (left < area.x || high < area.y || low > area.y + area.h) return false;
    for (var c = Math.floor(left - area.x); c <= left - area.x + width; ++c) {
      if ((columns[c] || []).some(function (y) { return y[1] >= high && y[0] <= low; })) return false;
    }
    if (lines.some(function (y) { return y >= high && y <= low; })) return false;
    return !taken.some(function (t) { return left < t.right + 6 && left + width + 6 > t.left && high < t.low && low > t.high; });
  }

  // Limits as dashed lines, their labels at a place of the line where no curve is; else beside the names of the curves.
  Run.prototype.limits = function (panel, canvas, area, g) {
    var right = area.x + area.w, labels = {}, taken = [], aside = [];
    panel.limits.forEach(function (l) {
      var known = labels[l.value] || (labels[l.value] = { value: l.value, names: [] });
      if (known.names.indexOf(l.name) < 0) known.names.push(l.name);
    });
    if (panel.limits.length === 0) return;
    var columns = curvesIn(g, area, panel), lines = panel.limits.map(function (l) { return g.toDomYCoord(l.value); });
    canvas.font = "11px 'DejaVu Sans',Verdana,sans-serif";
    canvas.strokeStyle = canvas.fillStyle = "#4B5560";
    canvas.textAlign = "left";
    Object.keys(labels).map(function (k) { return labels[k]; }).sort(function (a, b) {
      return b.value - a.value;
    }).forEach(function (l) {
      var at = g.toDomYCoord(l.value);
      if (at < area.y - 1 || at > area.y + area.h + 1) return;
      canvas.setLineDash([6, 4]);
      canvas.beginPath();
      canvas.moveTo(area.x, at);
      canvas.lineTo(right, at);
      canvas.stroke();
      canvas.setLineDash([]);
      var opposite = l.value !== 0 && labels[-l.value], pair = opposite && opposite.names.join() === l.names.join();
      if (pair && l.value < 0) return; // one label for both
      var text = l.names.join(", ") + " " + (pair ? "±" : "") + number(l.value), width = canvas.measureText(text).width;
      for (var left = right - 4 - width; left >= area.x + 4; left -= 20) {
        var base = [at - 4, at + 12].filter(function (b) { return free(columns, area, lines, taken, left, width, b); })[0];
        if (base === undefined) continue;
        canvas.fillText(text, left, base);
        taken.push({ left: left, right: left + width, high: base - 11, low: base + 3 });
        return;
      }
      aside.push(text);
    });
    panel.aside.textContent = aside.length ? "limits: " + aside.join("; ") : "";
  };

  Run.prototype.show = function (from, to) {
    this.from = Math.max(this.data.begin, from);
    this.to = Math.min(this.data.end, to);
    this.busy = true;
    var close = this.to - this.from < 0.98 * (this.data.end - this.data.begin);
    for (var i = 0; i < this.charts.length; ++i) {
      var chart = this.charts[i], panel = chart.panel;
      var options = { file: rows(panel, this.data.step, this.from, this.to), dateWindow: [this.from, this.to] };
      // Close up, what is there fills the chart.
      if (!panel.lanes && !panel.labels.length) options.axes = { y: { valueRange: close ? null : panel.range || null } };
      chart.updateOptions(options);
    }
    this.busy = false;
    this.say();
  };

  // One is being moved: the others at once, their finer values when it rests.
  Run.prototype.follow = function (g) {
    var window_ = g.xAxisRange(), run = this;
    if (this.busy || (window_[0] === this.from && window_[1] === this.to)) return;
    this.from = window_[0];
    this.to = window_[1];
    this.busy = true;
    this.charts.forEach(function (c) { if (c !== g) c.updateOptions({ dateWindow: window_ }); });
    this.busy = false;
    clearTimeout(this.rest);
    this.rest = setTimeout(function () { run.show(run.from, run.to); }, 200);
  };

  // The values at the pointer's time in every chart.
  Run.prototype.point = function (from, t) {
    this.charts.forEach(function (c) {
      if (c === from) return;
      if (t === null) return c.clearSelection();
      var at = c.numRows(), low = 0;
      while (low < at) {
        var middle = (low + at) >> 1;
        if (c.getValue(middle, 0) < t) low = middle + 1; else at = middle;
      }
      if (low < c.numRows()) c.setSelection(low, undefined, false, false);
    });
  };

  var runs = {};
  // Of the run whose data were just read.
  window.drawPlots = function (number) {
    var place = document.getElementById("plots" + number);
    runs[number] = new Run(JSON.parse(place.querySelector("script.plotdata").textContent), place.querySelector(".charts"));
    performance.mark("plots drawn");
  };
  document.addEventListener("click", function (event) {
    var link = event.target.closest ? event.target.closest("a[data-at]") : null;
    var run = link ? runs[link.dataset.run] : null;
    if (!run) return;
    event.preventDefault();
    var at = Number(link.dataset.at), half = (run.data.end - run.data.begin) / 40;
    run.cursor = at;
    document.getElementById("plots" + link.dataset.run).scrollIntoView();
    run.show(at - half, at + half);
  });
  document.addEventListener("DOMContentLoaded", function () {
    var wanted = /^#at=(\d+),([\d.eE+-]+)$/.exec(location.hash); // a link from outside: report.html#at=1,947.4
    if (wanted && runs[wanted[1]]) {
      var link = document.createElement("a");
      link.dataset.run = wanted[1];
      link.dataset.at = wanted[2];
      document.body.appendChild(link);
      link.click();
      link.remove();
    }
    // What was zoomed into before the finer values were there.
    Object.keys(runs).forEach(function (n) {
      var run = runs[n];
      if (run.from !== run.data.begin || run.to !== run.data.end) run.show(run.from, run.to);
    });
  });
})();
