(function () {
  'use strict';
  var data = JSON.parse(document.getElementById('data').textContent) || [];
  var units = [[1e12, 'T'], [1e9, 'G'], [1e6, 'M'], [1e3, 'k']];

  function figures(v) { return String(Number(v.toPrecision(3))); }

  function value(v, unit) {
    var i;
    if (unit === 'B' || unit === 'b/s' || unit === 'B/s') {
      for (i = 0; i < units.length; i += 1) {
        if (Math.abs(v) >= units[i][0]) { return figures(v / units[i][0]) + ' ' + units[i][1] + unit; }
      }
    }
    return figures(v) + (unit ? ' ' + unit : '');
  }

  function clock(t) {
    var s = Math.floor(t), rest = s % 60;
    return s < 60 ? t.toFixed(1) + ' s' : Math.floor(s / 60) + ':' + (rest < 10 ? '0' : '') + rest;
  }

  // nearest returns the value at the time that is nearest to t, null where there is none within two percent of the whole.
  function nearest(p, t, span) {
    var low = 0, high = p.length / 2 - 1, middle;
    if (high < 0) { return null; }
    while (low < high) {
      middle = (low + high) >> 1;
      if (p[2 * middle] < t) { low = middle + 1; } else { high = middle; }
    }
    if (low > 0 && t - p[2 * low - 2] < p[2 * low] - t) { low -= 1; }
    return Math.abs(p[2 * low] - t) <= Math.max(1, 0.02 * span) ? p[2 * low + 1] : null;
  }

  function line(tip, name, text) {
    var row = document.createElement('div'), strong = document.createElement('b');
    strong.appendChild(document.createTextNode(text));
    row.appendChild(document.createTextNode(name + ' '));
    row.appendChild(strong);
    tip.appendChild(row);
  }

  function follow(figure) {
    var chart = data[figure.getAttribute('data-chart')], drawing = figure.querySelector('.drawing');
    var cursor = document.createElement('div'), tip = document.createElement('div');
    cursor.className = 'cursor';
    tip.className = 'tip';
    function leave() {
      if (cursor.parentNode) { drawing.removeChild(cursor); drawing.removeChild(tip); }
    }
    drawing.addEventListener('pointerleave', leave);
    drawing.addEventListener('pointermove', function (e) {
      var box = drawing.getBoundingClientRect(), x = (e.clientX - box.left) / box.width, t, i, v;
      if (x < chart.l || x > chart.r || !chart.curves) { leave(); return; }
      t = chart.from + (x - chart.l) / (chart.r - chart.l) * (chart.to - chart.from);
      while (tip.firstChild) { tip.removeChild(tip.firstChild); }
      line(tip, 'at', clock(t));
      for (i = 0; i < chart.curves.length; i += 1) {
        v = nearest(chart.curves[i].p || [], t, chart.to - chart.from);
        if (v !== null) { line(tip, chart.curves[i].name, value(v, chart.unit)); }
      }
      cursor.style.left = 100 * x + '%';
      tip.style.top = '4px';
      tip.style.left = x < 0.6 ? 100 * x + 1 + '%' : 'auto';
      tip.style.right = x < 0.6 ? 'auto' : 101 - 100 * x + '%';
      drawing.appendChild(cursor);
      drawing.appendChild(tip);
    });
  }

  var list = document.querySelectorAll('figure[data-chart]'), i;
  for (i = 0; i < list.length; i += 1) { follow(list[i]); }
}());
