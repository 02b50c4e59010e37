// The plots of a report: one chart a panel, all charts of a run over the same stretch of time. Data come as two levels:
// a coarse one for the whole run, a fine one for what is zoomed into. The chart library is dygraphs.
(function () {
  "use strict";
  var kRows = 1500; // rows of a chart at most, before the finer level is worth it
  var html = document.documentElement;
  html.className += " live";

  function bytes(text) {
    var raw = atob(text), all = new Uint8Array(raw.length);
    for (var i = 0; i < raw.length; ++i) all[i] = raw.charCodeAt(i);
    return all.buffer;
  }

  // A level as arrays; decoded when it is first looked at.
  function open(level) {
    if (!level.time) {
      level.time = new Float64Array(bytes(level.t));
      level.values = level.v.map(function (v) { return new Float32Array(bytes(v)); });
      level.t = level.v = null;
    }
    return level;
  }

  function before(time, at) { // how many are before `at`
    var low = 0, high = time.length;
    while (low < high) {
      var middle = (low + high) >> 1;
      if (time[middle] < at) low = middle + 1; else high = middle;
    }
    return low;
  }

  // Rows over a stretch, with one on each side; infinite stands for "no value here, the line goes on".
  function rows(panel, from, to) {
    var level = open(panel.coarse), a = before(level.time, from), b = before(level.time, to);
    if (panel.fine && b - a < kRows / 2) {
      level = open(panel.fine);
      a = before(level.time, from);
      b = before(level.time, to);
    }
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

  function number(v) {
    return String(Number(v.toPrecision(6)));
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
      figure.panels.forEach(function (panel, i) { run.wait(panel, place, i + 1 === figure.panels.length); });
    });
    var all = document.createElement("button");
    all.textContent = "Whole run";
    all.onclick = function () { run.cursor = null; run.show(data.begin, data.end); };
    place.parentNode.querySelector(".tools").appendChild(all);
  }

  // A chart is made when it comes into sight: a page with fifty of them opens as quickly as one with five.
  Run.prototype.wait = function (panel, place, last) {
    var box = document.createElement("div"), run = this;
    box.className = "chart";
    box.style.height = panel.lanes ? 40 + 22 * panel.curves.length + "px" : last ? "190px" : "170px";
    place.appendChild(box);
    new IntersectionObserver(function (seen, observer) {
      if (!seen.some(function (s) { return s.isIntersecting; })) return;
      observer.disconnect();
      run.charts.push(run.chart(panel, box, last));
    }, { rootMargin: "300px" }).observe(box);
  };

  Run.prototype.chart = function (panel, box, last) {
    var run = this, names = panel.curves.map(function (c) { return c.name; });
    var axis = { axisLabelWidth: 88 };
    if (panel.lanes) {
      axis.ticker = function () {
        return names.map(function (n, i) { return { v: names.length - 1 - i + 0.35, label: n }; });
      };
      axis.valueRange = [-0.2, names.length];
      axis.drawGrid = false;
      axis.axisLabelWidth = 160;
    } else if (panel.labels.length) {
      axis.ticker = function () { return panel.labels.map(function (n, i) { return { v: i, label: n }; }); };
      axis.valueRange = [-0.3, panel.labels.length - 0.7];
    } else if (panel.range) {
      axis.valueRange = panel.range;
    }
    axis.valueFormatter = function (v, options, name) {
      if (panel.lanes) return v - Math.floor(v + 0.2) > 0.35 ? "true" : "false";
      if (panel.labels.length) return panel.labels[Math.round(v)] || number(v);
      return number(v) + (panel.unit ? " " + panel.unit : "");
    };
    var options = {
      labels: ["t"].concat(names),
      colors: panel.curves.map(function (c, i) { return run.data.colours[i % run.data.colours.length]; }),
      dateWindow: [run.from, run.to],
      ylabel: panel.unit || "",
      xlabel: "",
      connectSeparatedPoints: true,
      legend: "always",
      labelsSeparateLines: false,
      strokeWidth: 1.6,
      highlightCircleSize: 3,
      gridLineColor: "#e4e8eb",
      axisLineColor: "#8a949b",
      animatedZooms: false,
      axes: {
        x: { valueFormatter: function (t) { return number(t) + " s"; },
             axisLabelFormatter: function (t) { return number(t) + " s"; }, axisLabelWidth: 80 },
        y: axis
      },
      series: {},
      underlayCallback: function (canvas, area, g) { run.under(panel, canvas, area, g); },
      zoomCallback: function (from, to) { run.show(from, to); },
      drawCallback: function (g, first) { if (!first) run.follow(g); },
      highlightCallback: function (event, t, points, row) { run.point(chart, t); },
      unhighlightCallback: function () { run.point(chart, null); }
    };
    panel.curves.forEach(function (c) { options.series[c.name] = { stepPlot: c.steps }; });
    var chart = new Dygraph(box, rows(panel, run.from, run.to), options);
    chart.panel = panel;
    return chart;
  };

  // Bands of faults and breaches, what the scenario did, limits: below the curves.
  Run.prototype.under = function (panel, canvas, area, g) {
    var data = this.data, right = area.x + area.w;
    function x(t) { return Math.max(area.x, Math.min(right, g.toDomXCoord(t))); }
    function band(b, colour) {
      var a = x(b.begin), e = x(b.end);
      if (e < area.x || a > right || (a === e && (b.end < g.xAxisRange()[0] || b.begin > g.xAxisRange()[1]))) return;
      canvas.fillStyle = colour;
      canvas.fillRect(a, area.y, Math.max(2, e - a), area.h);
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
    data.faults.forEach(function (b) { band(b, "rgba(240,228,66,0.35)"); });
    data.breaches.forEach(function (b) { band(b, "rgba(213,94,0,0.25)"); });
    data.marks.forEach(function (m) { line(m.at, "#b9c1c7", [2, 3]); });
    if (this.cursor !== null) line(this.cursor, "#1d2730", []);
    canvas.font = "11px 'DejaVu Sans',Verdana,sans-serif";
    panel.limits.forEach(function (l) {
      var at = g.toDomYCoord(l.value);
      if (at < area.y || at > area.y + area.h) return;
      canvas.strokeStyle = canvas.fillStyle = "#A33F00";
      canvas.setLineDash([6, 4]);
      canvas.beginPath();
      canvas.moveTo(area.x, at);
      canvas.lineTo(right, at);
      canvas.stroke();
      canvas.setLineDash([]);
      canvas.textAlign = "right";
      canvas.fillText(l.label, right - 4, at - 3 < area.y + 10 ? at + 12 : at - 3);
    });
    canvas.restore();
  };

  Run.prototype.show = function (from, to) {
    this.from = Math.max(this.data.begin, from);
    this.to = Math.min(this.data.end, to);
    this.busy = true;
    for (var i = 0; i < this.charts.length; ++i) {
      var chart = this.charts[i];
      chart.updateOptions({ file: rows(chart.panel, this.from, this.to), dateWindow: [this.from, this.to] });
    }
    this.busy = false;
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
  document.querySelectorAll("script.plotdata").forEach(function (script) {
    var data = JSON.parse(script.textContent);
    runs[data.run] = new Run(data, document.getElementById("plots" + data.run).querySelector(".charts"));
  });
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
  var wanted = /^#at=(\d+),([\d.eE+-]+)$/.exec(location.hash); // a link from outside: report.html#at=1,947.4
  if (wanted && runs[wanted[1]]) {
    var link = document.createElement("a");
    link.dataset.run = wanted[1];
    link.dataset.at = wanted[2];
    document.body.appendChild(link);
    link.click();
    link.remove();
  }
})();
