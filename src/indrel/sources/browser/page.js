(() => {
  // What a page says once its scripts have run: read from the live tree, not from text that would be parsed again.
  const SHARED = 'nav,footer,aside,body > header,[role=navigation],[role=banner],[role=contentinfo],[role=search]';
  const NO_TEXT = 'script,style,noscript,template,[role=dialog],[role=alertdialog],[aria-modal=true],dialog';
  const MOST = 60000, LINKS = 5000, MARKUP = 1000000;
  let left = MOST;
  const covers = (el) => {
    const style = getComputedStyle(el);
    if (style.position !== 'fixed') return false;
    const box = el.getBoundingClientRect();
    return box.width >= innerWidth * 0.9 && box.height >= innerHeight * 0.9;
  };
  const layers = new Set([...(document.body ? document.body.children : [])].slice(0, 200).filter(covers));
  const text = (node, shared, out) => {
    if (left-- <= 0) return;
    if (node.nodeType === 3) { out.push(node.data, ' '); return; }
    if (node.nodeType !== 1 && node.nodeType !== 11) return;
    if (node.nodeType === 1) {
      if (layers.has(node) || node.matches(NO_TEXT) || (!shared && node.matches(SHARED))) return;
      if (!node.checkVisibility({ visibilityProperty: true })) return;
    }
    const inner = node.nodeType === 1 && node.localName === 'slot' ? node.assignedNodes() : [];
    for (const child of inner.length ? inner : (node.shadowRoot || node).childNodes) text(child, shared, out);
  };
  const roots = [document];
  for (let i = 0; i < roots.length && i < 500; i++)
    for (const el of roots[i].querySelectorAll('*')) if (el.shadowRoot && roots.length < 500) roots.push(el.shadowRoot);
  const start = (el) => el.cloneNode(false).outerHTML.slice(0, 400);
  const all = (sel) => roots.flatMap((r) => [...r.querySelectorAll(sel)]);
  const body = document.body, main = document.querySelector('main,[role=main]') || body;
  const told = [];
  if (main) text(main, false, told);
  if (main && main !== body && !told.join('').trim()) text(body, false, told);
  if (body && !told.join('').trim()) text(body, true, told);
  const at = (el) => ({ text: start(el), body: !!(body && body.contains(el)) });
  const heading = main && main.querySelector('h1');
  const links = [], seen = new Set();
  for (const el of all('a[href],area[href]')) {
    if (links.length >= LINKS) break;
    if (typeof el.href !== 'string') continue;
    const key = el.href + ' ' + el.rel;
    if (!seen.has(key)) { seen.add(key); links.push({ href: el.href, rel: el.rel, text: start(el) }); }
  }
  const odd = document.querySelector('[onclick],a[href=""],a[href="#"],a[href^="javascript:" i],a[href*="#/"],a[href*="#!/"]');
  return {
    url: location.href,
    markup: odd ? document.documentElement.outerHTML.slice(0, MARKUP) : '',
    title: (document.title || '').slice(0, 300),
    heading: heading ? heading.innerText.slice(0, 300) : '',
    text: told.join('').slice(0, 200000),
    metas: [...document.querySelectorAll('meta[name]')].slice(0, 200).map((el) => ({
      name: el.getAttribute('name'), content: el.getAttribute('content'), ...at(el) })),
    canonicals: [...document.querySelectorAll('link[rel~=canonical i]')].slice(0, 50).map((el) => ({
      href: el.getAttribute('href'), off: ['hreflang', 'lang', 'media', 'type'].find((n) => el.hasAttribute(n)) || null, ...at(el) })),
    base: document.baseURI,
    links,
    shows: main ? main.querySelectorAll('img[src],video,iframe,object,embed,input:not([type=hidden]),textarea,select').length : 0,
    height: document.documentElement ? document.documentElement.scrollHeight : 0,
  };
})()
