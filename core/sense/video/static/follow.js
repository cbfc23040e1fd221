/* Follows the largest video of the page that it is run in and sends its counts to the computer
   that watches; where no connection is possible it shows them and hands them over as a file. */
(function () {
  'use strict';
  var address = 'ADDRESS', every = 250, samples = [], presented = 0, video = null, socket = null, open = false, box = null, said = '';
  if (window.vividStrainFollows) { return; }
  window.vividStrainFollows = true;

  function largest() {
    var list = document.getElementsByTagName('video'), best = null, size = -1, i, s;
    for (i = 0; i < list.length; i += 1) {
      s = list[i].clientWidth * list[i].clientHeight + (list[i].paused ? 0 : 1);
      if (s > size) { best = list[i]; size = s; }
    }
    return best;
  }

  function each() {
    presented += 1;
    if (video && video.requestVideoFrameCallback) { video.requestVideoFrameCallback(each); }
  }

  function ahead(v) {
    var b = v.buffered, t = v.currentTime, i;
    for (i = 0; i < b.length; i += 1) { if (b.start(i) <= t + 0.1 && b.end(i) >= t) { return b.end(i) - t; } }
    return 0;
  }

  function connect() {
    try {
      socket = new WebSocket(address);
      socket.onopen = function () { open = true; hide(); };
      socket.onclose = function () { open = false; window.setTimeout(connect, 5000); };
    } catch (e) { said = 'this page allows no connection'; }
  }

  function show() {
    var s = samples[samples.length - 1], save;
    if (!box) {
      box = document.createElement('div');
      box.style.cssText = 'position:fixed;right:12px;bottom:12px;z-index:2147483647;padding:10px 14px;background:#10151c;color:#dfe6ee;font:15px/1.5 system-ui,sans-serif;border-left:4px solid #57b6a9';
      box.appendChild(document.createElement('div'));
      save = document.createElement('button');
      save.appendChild(document.createTextNode('Save the counts'));
      save.onclick = hand;
      box.appendChild(save);
      (document.fullscreenElement || document.body).appendChild(box);
    }
    box.firstChild.textContent = s ? s[4] + ' of ' + s[3] + ' dropped, ' + Math.round(s[2]) + ' s ahead' : 'no video here' + (said ? ', ' + said : '');
  }

  function hide() { if (box) { box.parentNode.removeChild(box); box = null; } }

  function hand() {
    var a = document.createElement('a'), words = JSON.stringify({ schema: 'vividstrain.page/1', samples: samples });
    a.href = window.URL && window.Blob ? URL.createObjectURL(new Blob([words], { type: 'application/json' })) : 'data:application/json,' + encodeURIComponent(words);
    a.download = 'vividstrain-page.json';
    a.click();
  }

  window.setInterval(function () {
    var v = largest(), q, s;
    if (!v) { if (!open) { show(); } return; }
    if (v !== video) { video = v; presented = 0; if (v.requestVideoFrameCallback) { v.requestVideoFrameCallback(each); } }
    q = v.getVideoPlaybackQuality ? v.getVideoPlaybackQuality() : { totalVideoFrames: v.webkitDecodedFrameCount || 0, droppedVideoFrames: v.webkitDroppedFrameCount || 0 };
    s = [new Date().getTime(), v.currentTime, ahead(v), q.totalVideoFrames, q.droppedVideoFrames, v.videoHeight];
    samples.push(s);
    if (samples.length > 60000) { samples.shift(); }
    if (open) { socket.send(JSON.stringify(s)); } else { show(); }
  }, every);
  connect();
}());
