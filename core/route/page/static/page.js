/* The page of a device under test: plays what it is told to play, and reports what the browser
   counts. It is ES5, and each newer interface may be missing. */
(function () {
  'use strict';

  var socket = null, greeted = false, started = /[?&]go(&|$)/.test(location.search), ended = false;
  var attempt = null; // what is being played
  var lacks = []; // what cannot be measured here, in words
  var wake = null; // the lock that keeps the screen on
  var pageId = Math.random().toString(36).slice(2) + Math.random().toString(36).slice(2);
  var facts = {};

  function el(id) { return document.getElementById(id); }
  function now() { return window.performance && performance.now ? performance.now() : new Date().getTime(); }
  function text(id, words) {
    var e = el(id);
    while (e.firstChild) { e.removeChild(e.firstChild); }
    e.appendChild(document.createTextNode(words || ''));
  }

  function send(message) {
    if (socket && socket.readyState === 1) { socket.send(JSON.stringify(message)); return true; }
    return false;
  }

  // deviceId recognises this browser when it comes again.
  function deviceId() {
    try {
      var id = localStorage.getItem('vividstrain') || pageId;
      localStorage.setItem('vividstrain', id);
      return id;
    } catch (e) { return ''; }
  }

  /* What the device is. */

  function lack(name, without) { lacks.push(name + ': ' + without); }

  function ask(query) { return window.matchMedia ? window.matchMedia(query).matches : false; }

  function findFacts(then) {
    var left = 1;
    function done() { left -= 1; if (left === 0) { then(); } }
    facts.browser = String(navigator.userAgent || '').slice(0, 300);
    if (window.screen) { facts.screen = screen.width + 'x' + screen.height; }
    facts.window = window.innerWidth + 'x' + window.innerHeight;
    if (window.devicePixelRatio) { facts.pixel_ratio = String(Math.round(window.devicePixelRatio * 100) / 100); } else { lack('pixel ratio', 'not known'); }
    if (navigator.hardwareConcurrency) { facts.cores = String(navigator.hardwareConcurrency); }
    if (navigator.deviceMemory) { facts.memory = navigator.deviceMemory + ' GB or more'; }
    if (window.matchMedia) {
      facts.gamut = ask('(color-gamut: rec2020)') ? 'rec2020' : ask('(color-gamut: p3)') ? 'p3' : ask('(color-gamut: srgb)') ? 'srgb' : '';
      if (!facts.gamut) { delete facts.gamut; }
      facts.hdr = ask('(dynamic-range: high)') ? 'yes' : 'no';
      if (window.matchMedia('(dynamic-range: standard)').matches === false && facts.hdr === 'no') { delete facts.hdr; }
    } else { lack('colour gamut and HDR', 'not known'); }
    if (!navigator.mediaCapabilities || !navigator.mediaCapabilities.decodingInfo) { lack('media capabilities', 'what the browser promises is not known' + insecure()); }
    if (!navigator.wakeLock) { lack('wake lock', 'switch the screen saver off by hand' + insecure()); }
    var video = document.createElement('video');
    if (!video.requestVideoFrameCallback) { lack('frame callbacks', 'frames are counted by the browser alone; freezes and late frames are not seen'); }
    if (!video.getVideoPlaybackQuality && video.webkitDecodedFrameCount === undefined) { lack('playback quality', 'the browser does not count dropped frames'); }
    if (navigator.getBattery) {
      left += 1;
      navigator.getBattery().then(function (b) {
        facts.battery = Math.round(b.level * 100) + ' %, ' + (b.charging ? 'charging' : 'in use');
        done();
      }, done);
    }
    left += 1;
    refreshRate(function (hz) { if (hz) { facts.refresh_hz = String(hz); } else { lack('refresh rate', 'not known'); } done(); });
    done();
  }

  function insecure() { return window.isSecureContext === false ? ' (browsers withhold it over plain HTTP from another computer; --tls gives it)' : ''; }

  // refreshRate measures for a second how often the display is refreshed.
  function refreshRate(then) {
    var frame = window.requestAnimationFrame, times = [], said = false;
    function tell(hz) { if (!said) { said = true; then(hz); } }
    if (!frame) { tell(0); return; }
    window.setTimeout(function () { tell(0); }, 4000); // a hidden page is not drawn
    function next(t) {
      times.push(t);
      if (times.length < 62) { frame(next); return; }
      var gaps = [], i;
      for (i = 1; i < times.length; i += 1) { gaps.push(times[i] - times[i - 1]); }
      gaps.sort(function (a, b) { return a - b; });
      tell(Math.round(10000 / gaps[gaps.length >> 1]) / 10);
    }
    frame(next);
  }

  /* What the browser promises. */

  function promises(id, items) {
    var answers = [], left = items.length;
    function answer(i, a) {
      answers[i] = a;
      left -= 1;
      if (left <= 0) { send({ say: 'promises', id: id, items: answers }); }
    }
    function one(i) {
      var x = items[i], can = document.createElement('video').canPlayType;
      var plain = can ? { supported: document.createElement('video').canPlayType(x.type) !== '' } : null;
      if (!navigator.mediaCapabilities || !navigator.mediaCapabilities.decodingInfo) { answer(i, plain); return; }
      var video = { contentType: x.type, width: x.width, height: x.height, bitrate: x.bitrate, framerate: x.rate };
      if (x.transfer === 'pq' || x.transfer === 'hlg') { video.transferFunction = x.transfer; video.colorGamut = 'rec2020'; }
      try {
        navigator.mediaCapabilities.decodingInfo({ type: 'file', video: video }).then(function (r) {
          answer(i, { supported: !!r.supported, smooth: !!r.smooth, efficient: !!r.powerEfficient });
        }, function () { answer(i, plain); });
      } catch (e) { answer(i, plain); }
    }
    var i;
    if (!items.length) { send({ say: 'promises', id: id, items: [] }); }
    for (i = 0; i < items.length; i += 1) { one(i); }
  }

  /* Playing. */

  function stage(show, how) {
    var s = el('stage');
    s.style.display = show ? 'block' : 'none';
    s.className = how === 'window' ? 'window' : '';
    el('board').style.display = show && how !== 'window' ? 'none' : 'block';
    if (!show) { while (s.firstChild) { s.removeChild(s.firstChild); } }
  }

  function fullscreen() {
    var e = document.documentElement, go = e.requestFullscreen || e.webkitRequestFullscreen || e.mozRequestFullScreen || e.msRequestFullscreen;
    if (!go || document.fullscreenElement || document.webkitFullscreenElement) { return; }
    try { var p = go.call(e); if (p && p.then) { p.then(null, function () {}); } } catch (err) { /* it needs a press */ }
  }

  function stop() {
    if (!attempt) { return; }
    window.clearInterval(attempt.timer);
    attempt.over = true;
    var i, v;
    for (i = 0; i < attempt.players.length; i += 1) {
      v = attempt.players[i].video;
      try { v.pause(); v.removeAttribute('src'); v.load(); } catch (e) { /* it is gone anyway */ }
    }
    attempt = null;
    stage(false);
  }

  function play(order) {
    stop();
    var a = { id: order.attempt, order: order, players: [], over: false, full: !!(document.fullscreenElement || document.webkitFullscreenElement) };
    attempt = a;
    stage(true, order.screen);
    if (order.screen === 'full') { fullscreen(); }
    var n = order.films.length, columns = Math.ceil(Math.sqrt(n)), rows = Math.ceil(n / columns), i;
    for (i = 0; i < n; i += 1) { a.players.push(player(a, i, columns, rows)); }
    a.timer = window.setInterval(function () { tick(a); }, 250);
  }

  // cell places video i in the grid.
  function cell(order, i, columns, rows) {
    var c = document.createElement('div'), s = el('stage');
    c.className = 'cell';
    c.style.left = 100 * (i % columns) / columns + '%';
    c.style.top = 100 * Math.floor(i / columns) / rows + '%';
    c.style.width = 100 / columns + '%';
    c.style.height = 100 / rows + '%';
    s.appendChild(c);
    return c;
  }

  function player(a, i, columns, rows) {
    var order = a.order, film = order.films[i], video = document.createElement('video'), box = cell(order, i, columns, rows);
    var p = { n: i, video: video, frames: [], first: false, jumps: 0, seeking: false, last: null };
    video.muted = true;
    video.setAttribute('muted', '');
    video.setAttribute('playsinline', '');
    video.preload = 'auto';
    if (order.fit === 'fit') { video.className = 'fit'; } else {
      var ratio = window.devicePixelRatio || 1;
      video.style.width = film.width / ratio + 'px';
      video.style.height = film.height / ratio + 'px';
    }
    function event(kind, x, words, at) { if (!a.over) { send({ say: 'event', attempt: a.id, video: i, t: now(), kind: kind, x: x || 0, at: at || 0, text: String(words || '').slice(0, 200) }); } }
    p.event = event;
    function on(name, f) { video.addEventListener(name, f); }
    on('waiting', function () { if (!p.seeking) { event('waiting', video.currentTime); } });
    on('playing', function () { event('playing', video.currentTime); if (!video.requestVideoFrameCallback) { shown(p, a); } });
    on('stalled', function () { event('stalled', video.currentTime); });
    on('pause', function () { if (!video.ended) { event('paused', video.currentTime); } });
    on('ended', function () { event('ended', video.currentTime); });
    on('error', function () { var e = video.error || {}; event('error', e.code || 0, e.message); });
    on('seeked', function () { if (p.seeking && !video.requestVideoFrameCallback) { shown(p, a); } });
    box.appendChild(video);
    function start() {
      if (a.over) { return; }
      if (video.requestVideoFrameCallback) { eachFrame(a, p, film); }
      var promise = video.play();
      if (promise && promise.then) { promise.then(null, function (e) { if (!a.over) { event('refused', 0, e && (e.name + ': ' + e.message)); } }); }
    }
    window.setTimeout(function () { if (!a.over) { load(a, p, film, start); } }, film.delay_ms || 0);
    return p;
  }

  // load gives a video its film, and calls start when it is at the place where it begins.
  function load(a, p, film, start) {
    var video = p.video;
    p.event('ordered');
    if (film.from) {
      once(video, 'loadedmetadata', function () { video.currentTime = film.from; once(video, 'seeked', start); });
    }
    if (film.levels) { adapt(a, p, film.levels); } else if (film.port) { // another port of the same computer
      video.crossOrigin = 'anonymous';
      video.src = location.protocol + '//' + location.hostname + ':' + film.port + location.pathname + 'film/' + film.name;
    } else { video.src = 'film/' + film.name; }
    if (!film.from) { start(); }
  }

  function once(video, name, then) {
    function first() { video.removeEventListener(name, first); then(); }
    video.addEventListener(name, first);
  }

  // adapt plays a film in several qualities, each a list of segments, by Media Source Extensions.
  // The rule: down when frames drop or the buffer falls, up while it grows and nothing drops; a
  // quality that dropped frames is not tried again for a while, longer each time.
  function adapt(a, p, levels) {
    var video = p.video, Source = window.ManagedMediaSource || window.MediaSource, top = levels[levels.length - 1].type;
    if (!Source || !Source.isTypeSupported(top)) { p.event('refused', 0, 'the browser has no media sources for ' + top); return; }
    var source = new Source(), buffer = null, level = 0, next = 0, start = 0, inits = {}, held = -1;
    var counted = { total: 0, dropped: 0 }, leads = [], calm = 0, blocked = [], failed = [];
    video.disableRemotePlayback = true;
    video.src = URL.createObjectURL(source);
    source.addEventListener('sourceopen', function () {
      if (buffer) { return; }
      buffer = source.addSourceBuffer(top);
      fetchNext();
    });

    function get(q, from, size, then) {
      var r = new XMLHttpRequest();
      r.open('GET', 'film/' + q.name);
      r.responseType = 'arraybuffer';
      r.setRequestHeader('Range', 'bytes=' + from + '-' + (from + size - 1));
      r.onload = function () { if (!a.over) { then(r.response); } };
      r.onerror = function () { if (!a.over) { window.setTimeout(function () { get(q, from, size, then); }, 1000); } };
      r.send();
    }

    function append(data, then) {
      buffer.onupdateend = function () { buffer.onupdateend = null; if (!a.over) { then(); } };
      try { buffer.appendBuffer(data); } catch (e) { p.event('refused', 0, e.name + ': ' + e.message); }
    }

    function lead() { return bufferedTo(video) - video.currentTime; }

    function choose() {
      var q = video.getVideoPlaybackQuality ? video.getVideoPlaybackQuality() : { totalVideoFrames: 0, droppedVideoFrames: 0 };
      var seen = q.totalVideoFrames - counted.total, lost = q.droppedVideoFrames - counted.dropped, now = lead(), was = level, why = '';
      counted = { total: q.totalVideoFrames, dropped: q.droppedVideoFrames };
      leads.push(now);
      var falls = leads.length > 2 && now < leads[leads.length - 2] - 0.3 && leads[leads.length - 2] < leads[leads.length - 3] - 0.3;
      var drops = p.first && seen > 10 && lost > 0.02 * seen, starved = p.first && (now < 2.5 || falls && now < 8);
      calm = drops || starved || !p.first ? 0 : calm + 1;
      if ((drops || starved) && level > 0) {
        why = drops ? lost + ' of ' + seen + ' frames dropped' : 'only ' + now.toFixed(1) + ' s in hand';
        failed[level] = (failed[level] || 0) + 1;
        blocked[level] = next + 5 * failed[level];
        level -= 1;
      } else if (calm >= 2 && now > 3.5 && level < levels.length - 1 && !(blocked[level + 1] > next)) {
        why = now.toFixed(1) + ' s in hand and nothing dropped';
        level += 1;
      }
      if (level !== was) { calm = 0; leads = []; }
      return why;
    }

    function fetchNext() {
      if (a.over) { return; }
      if (lead() > 8) { window.setTimeout(fetchNext, 250); return; }
      var why = next ? choose() : 'it begins there', q = levels[level], s = q.segments[Math.min(next, q.segments.length - 1)];
      if (next >= q.segments.length) { try { source.endOfStream(); } catch (e) { /* it is over */ } return; }
      function media() {
        get(q, s[0], s[1], function (data) {
          if (held !== level) { p.event('quality', level, why, start); held = level; }
          append(data, function () { next += 1; start += s[2]; fetchNext(); });
        });
      }
      if (held === level) { media(); return; }
      if (inits[level]) { append(inits[level], media); return; }
      get(q, q.init[0], q.init[1], function (data) { inits[level] = data; append(data, media); });
    }
  }

  // shown is called for the first picture, and for the first one after a jump.
  function shown(p, a) {
    var order = a.order, video = p.video;
    if (!p.first) {
      p.first = true;
      p.event('first', video.currentTime);
      window.setTimeout(function () { if (!a.over) { order.jumps > 0 ? jump(p, a) : finish(p, a); } }, order.films[p.n].hold_ms);
    } else if (p.seeking) {
      p.seeking = false;
      p.event('jumped', video.currentTime);
      window.setTimeout(function () { if (!a.over) { p.jumps < order.jumps ? jump(p, a) : finish(p, a); } }, 1000);
    }
  }

  // finish reports what is not reported yet, and that playing is over.
  function finish(p, a) {
    tick(a);
    p.event('done');
  }

  // jump goes forwards, back, and to where the film was fetched but not played, in turn.
  function jump(p, a) {
    var video = p.video, at = video.currentTime, end = bufferedTo(video), film = video.duration || 0, to;
    switch (p.jumps % 3) {
    case 0: to = (Math.min(end, film) + film) / 2; break;
    case 1: to = at / 2; break;
    default: to = (at + end) / 2;
    }
    if (film) { to = Math.max(0, Math.min(to, film - 2)); }
    p.jumps += 1;
    p.seeking = true;
    p.asked = now();
    p.event(to < at ? 'jump-back' : to <= end ? 'jump-inside' : 'jump-forward', to);
    video.currentTime = to;
  }

  function bufferedTo(video) {
    var b = video.buffered, t = video.currentTime, i;
    for (i = 0; b && i < b.length; i += 1) {
      if (b.start(i) <= t + 0.1 && b.end(i) >= t) { return b.end(i); }
    }
    return t;
  }

  function eachFrame(a, p, film) {
    var video = p.video, marks = film.marks ? reader(film) : null;
    function frame(t, m) {
      if (a.over) { return; }
      video.requestVideoFrameCallback(frame);
      var mark = marks ? marks(video) : -2, late = now() - m.expectedDisplayTime, q = video.getVideoPlaybackQuality ? video.getVideoPlaybackQuality() : null;
      p.frames.push([m.presentedFrames, m.mediaTime, m.expectedDisplayTime, mark, Math.round(late * 10) / 10, q ? q.totalVideoFrames : -1, q ? q.droppedVideoFrames : -1]);
      if (!p.first || p.seeking && Math.abs(m.mediaTime - video.currentTime) < 1) { shown(p, a); }
    }
    video.requestVideoFrameCallback(frame);
  }

  // reader returns a function that reads the number in the strip of black and white cells at the
  // top of the picture, of either kind. Where reading is slow, only some pictures are read, so that
  // it takes a twentieth of the time at most: the load is the film, not this.
  function reader(film) {
    var canvas = document.createElement('canvas'), context, spent = 0, read = 0, seen = 0, older = false;
    canvas.height = 1;
    context = canvas.getContext && canvas.getContext('2d', { willReadFrequently: true });
    if (!context) { return null; }
    // cells returns the cells of a strip: 1 for white.
    function cells(video, count) {
      var i, data, list = [], height = video.videoHeight;
      if (canvas.width !== 2 * count) { canvas.width = 2 * count; }
      context.drawImage(video, 0, Math.floor(height / 360), video.videoWidth, Math.max(1, Math.floor(height / 180)), 0, 0, 2 * count, 1);
      data = context.getImageData(0, 0, 2 * count, 1).data;
      for (i = 0; i < count; i += 1) { list.push(data[8 * i] + data[8 * i + 4] > 255 ? 1 : 0); }
      return list;
    }
    return function (video) {
      seen += 1;
      if (read >= 5 && spent > seen * 50 / film.rate) { return -2; }
      var began = now(), mark = -1;
      try {
        if (!older) { mark = number(cells(video, 48)); }
        if (mark < 0) {
          mark = olderNumber(cells(video, 32));
          older = mark >= 0;
        }
      } catch (e) { return -2; }
      spent += now() - began;
      read += 1;
      return mark;
    };
  }

  // number returns the frame's number in a strip, -1 if there is none: one, zero, one, 20 bits of the
  // number in Gray code, 16 bits of the clip's, six bits of check (CRC-6 of ITU-T G.704), one, zero, one.
  function number(bits) {
    var i, k, rest = bits.slice(3, 45), frame = 0, bit = 0;
    for (i = 0; i < 36; i += 1) {
      if (rest[i]) {
        for (k = 0; k < 7; k += 1) { rest[i + k] ^= k === 0 || k > 4 ? 1 : 0; }
      }
    }
    if (bits.slice(0, 3).concat(bits.slice(45)).join('') !== '101101' || rest.indexOf(1) >= 0) { return -1; }
    for (i = 3; i < 23; i += 1) {
      bit ^= bits[i];
      frame = frame * 2 + bit;
    }
    return frame;
  }

  // olderNumber is that of older clips: one, zero, 24 bits, four bits of check, zero, one.
  function olderNumber(bits) {
    var i, frame = 0, check = 0, sum = 0;
    for (i = 2; i < 26; i += 1) { frame = frame * 2 + bits[i]; }
    for (i = 26; i < 30; i += 1) { check = check * 2 + bits[i]; }
    for (i = 0; i < 6; i += 1) { sum ^= Math.floor(frame / Math.pow(16, i)) % 16; }
    return bits[0] === 1 && bits[1] === 0 && bits[30] === 0 && bits[31] === 1 && sum === check ? frame : -1;
  }

  function tick(a) {
    var i, p, v, q, m;
    for (i = 0; i < a.players.length; i += 1) {
      p = a.players[i];
      v = p.video;
      q = v.getVideoPlaybackQuality ? v.getVideoPlaybackQuality() : null;
      m = { say: 'tick', attempt: a.id, video: i, t: now(), at: v.currentTime, ahead: bufferedTo(v), hidden: !!document.hidden, frames: p.frames };
      if (q) { m.total = q.totalVideoFrames; m.dropped = q.droppedVideoFrames; } else if (v.webkitDecodedFrameCount !== undefined) {
        m.total = v.webkitDecodedFrameCount;
        m.dropped = v.webkitDroppedFrameCount || 0;
      }
      if (send(m)) { p.frames = []; } else if (p.frames.length > 5000) { p.frames = p.frames.slice(-2000); }
    }
  }

  document.addEventListener('visibilitychange', function () {
    if (attempt) { send({ say: 'event', attempt: attempt.id, video: 0, t: now(), kind: document.hidden ? 'hidden' : 'visible', x: 0, text: '' }); }
    if (!document.hidden) { keepAwake(); }
  });

  function fullscreenChanged() {
    var full = !!(document.fullscreenElement || document.webkitFullscreenElement);
    if (attempt && attempt.full && !full) { send({ say: 'event', attempt: attempt.id, video: 0, t: now(), kind: 'left-full', x: 0, text: '' }); }
    if (attempt) { attempt.full = full; }
  }
  document.addEventListener('fullscreenchange', fullscreenChanged);
  document.addEventListener('webkitfullscreenchange', fullscreenChanged);

  function keepAwake() {
    if (!navigator.wakeLock || wake || !started) { return; }
    navigator.wakeLock.request('screen').then(function (lock) {
      wake = lock;
      lock.addEventListener('release', function () { wake = null; });
    }, function () {});
  }

  /* What the page shows. */

  var shapes = { smooth: '\u25cf', marginal: '\u25d0', choppy: '\u25cb', failed: '\u00d7', 'void': '\u25cc' };

  function view(v) {
    if (v.doing) { text('doing', v.doing); }
    text('device', v.device);
    var list = el('answer'), i, j, r, row, shape;
    while (list.firstChild) { list.removeChild(list.firstChild); }
    for (i = 0; i < (v.answer || []).length; i += 1) {
      row = document.createElement('div');
      row.appendChild(document.createTextNode(v.answer[i]));
      list.appendChild(row);
    }
    list = el('rungs');
    while (list.firstChild) { list.removeChild(list.firstChild); }
    for (i = 0; i < (v.rungs || []).length; i += 1) {
      r = v.rungs[i];
      row = document.createElement('div');
      row.className = 'rung' + (r.now ? ' now' : '') + (r.verdicts && r.verdicts.length ? ' ' + r.verdicts[r.verdicts.length - 1] : '');
      shape = '';
      for (j = 0; j < (r.verdicts || []).length; j += 1) { shape += shapes[r.verdicts[j]] || ''; }
      row.appendChild(part('shape', shape || (r.now ? '\u25b6' : '')));
      row.appendChild(part('name', r.name));
      row.appendChild(part('result', r.verdicts && r.verdicts.length ? r.verdicts[r.verdicts.length - 1] + (r.result ? ', ' + r.result + (/^\d+ of/.test(r.result) ? ' frames dropped' : '') : '') : ''));
      list.appendChild(row);
    }
    ended = !!v.ended;
    offer();
  }

  function part(name, words) {
    var e = document.createElement('span');
    e.className = name;
    e.appendChild(document.createTextNode(words || ''));
    return e;
  }

  function offer() {
    var b = el('start');
    b.style.display = !started && greeted && !ended ? 'inline-block' : 'none';
    if (!started && greeted) {
      text('hint', 'Press OK, Enter or tap. Then leave the device alone: the page plays everything by itself.');
      try { b.focus(); } catch (e) { /* the pointer will do */ }
    } else { text('hint', ''); }
    text('missing', lacks.length && !started ? 'Not to be measured in this browser:\n' + lacks.join('\n') : '');
  }

  function showFacts() {
    var words = [];
    if (facts.screen) { words.push('screen ' + facts.screen); }
    if (facts.refresh_hz) { words.push(facts.refresh_hz + ' Hz'); }
    if (facts.cores) { words.push(facts.cores + ' cores'); }
    if (facts.gamut) { words.push('colours ' + facts.gamut + (facts.hdr === 'yes' ? ', HDR' : '')); }
    if (facts.battery) { words.push('battery ' + facts.battery); }
    text('facts', started || ended ? '' : words.join('  \u00b7  '));
  }

  function begin() {
    if (started || !greeted) { return; }
    started = true;
    keepAwake();
    if (screenWanted === 'full') { fullscreen(); }
    send({ say: 'ready' });
    text('doing', 'Ready. Waiting for the computer that measures.');
    showFacts();
    offer();
  }

  el('start').onclick = begin;
  document.addEventListener('keydown', function (e) {
    if (e.keyCode === 13 || e.keyCode === 32 || e.keyCode === 415) { begin(); } // enter, space, a remote's play key
  });

  var screenWanted = 'full';

  /* The connection. */

  function connect() {
    var address = location.protocol.replace('http', 'ws') + '//' + location.host + location.pathname + 'ws';
    socket = new WebSocket(address);
    socket.onopen = function () {
      send({ say: 'hello', page: pageId, device: deviceId(), ready: started, facts: facts, lacks: lacks });
      greeted = true;
      if (!started) { text('doing', 'This page finds the heaviest video that this device plays smoothly.'); }
      showFacts();
      offer();
    };
    socket.onmessage = function (m) {
      var order = JSON.parse(m.data);
      switch (order['do']) {
      case 'welcome': screenWanted = order.screen; if (order.started) { started = true; } offer(); break;
      case 'view': view(order); break;
      case 'ask': promises(order.id, order.items); break;
      case 'play': play(order); break;
      case 'stop': stop(); break;
      case 'end': ended = true; break;
      }
    };
    socket.onclose = function () {
      if (ended) { return; }
      greeted = false;
      text('doing', 'The connection was lost. Trying again.');
      offer();
      window.setTimeout(connect, 1000);
    };
  }

  if (!window.WebSocket || !window.JSON || !document.addEventListener || !document.createElement('video').play) {
    text('doing', 'This browser is too old: it has no video element or no WebSocket.');
    return;
  }
  findFacts(connect);
}());
