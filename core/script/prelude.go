package script

// prelude makes the world of a script: what could tell the time, roll dice,
// compile more script or do much work in one call is taken away or bounded. It
// gives the two functions by which values come in and go out.
const prelude = `(function () {
	"use strict";
	var most = 1 << 22; // characters of a text, values of a list
	var G = globalThis;
	var parse = JSON.parse, apply = Function.prototype.call.bind(Function.prototype.apply);
	var isArray = Array.isArray, keys = Object.keys, define = Object.defineProperty, range = RangeError;
	var stringify = JSON.stringify;
	function tooLarge(what) { throw new range(what + " would be too large; at most " + most + " are allowed"); }
	function put(of, name, value) { define(of, name, { value: value, writable: true, configurable: true, enumerable: false }); }
	function guard(of, name, check) {
		var f = of[name];
		if (typeof f !== "function") return;
		put(of, name, function () { check(this, arguments); return apply(f, this, arguments); });
	}

	["eval", "Date", "BigInt", "Promise", "Proxy", "Reflect", "WeakRef", "FinalizationRegistry", "ArrayBuffer", "SharedArrayBuffer", "DataView", "Atomics",
		"Int8Array", "Uint8Array", "Uint8ClampedArray", "Int16Array", "Uint16Array", "Int32Array", "Uint32Array", "Float32Array", "Float64Array",
		"BigInt64Array", "BigUint64Array"
	].forEach(function (n) { delete G[n]; });
	delete Math.random;
	function none() { throw new TypeError("a script cannot compile another one"); }
	[function () {}, function* () {}, async function () {}].forEach(function (f) {
		var p = Object.getPrototypeOf(f);
		define(p, "constructor", { value: none, writable: false, configurable: false });
	});
	G.Function = none;

	var S = String.prototype, A = Array.prototype;
	function len(x) { return x === null || x === undefined ? 0 : +x.length || 0; }
	guard(S, "repeat", function (s, a) { if (len(s) * (+a[0] || 0) > most) tooLarge("the text"); });
	guard(S, "padStart", function (s, a) { if ((+a[0] || 0) > most) tooLarge("the text"); });
	guard(S, "padEnd", function (s, a) { if ((+a[0] || 0) > most) tooLarge("the text"); });
	["replace", "replaceAll"].forEach(function (n) {
		guard(S, n, function (s, a) { if (typeof a[1] !== "function" && (len(s) + 1) * (len(String(a[1])) + 1) > most * 8) tooLarge("the text"); });
	});
	["split", "concat", "match", "matchAll", "normalize"].forEach(function (n) {
		guard(S, n, function (s, a) {
			var total = len(s);
			for (var i = 0; i < a.length; i++) total += typeof a[i] === "string" ? a[i].length : 0;
			if (total > most) tooLarge("the text");
		});
	});
	Object.getOwnPropertyNames(A).forEach(function (n) {
		if (n === "constructor" || n === "flat" || n === "flatMap" || n === "concat" || n === "join" || n === "toString" || n === "toLocaleString") return;
		guard(A, n, function (l) { if (len(l) > most) tooLarge("the list"); });
	});
	var concat = A.concat, join = A.join, push = A.push;
	put(A, "concat", function () {
		var total = len(this);
		for (var i = 0; i < arguments.length; i++) total += isArray(arguments[i]) ? arguments[i].length : 1;
		if (total > most) tooLarge("the list");
		return apply(concat, this, arguments);
	});
	put(A, "join", function (sep) {
		var n = len(this), between = sep === undefined ? 1 : len(String(sep)), total = n * between;
		if (total > most) tooLarge("the text");
		for (var i = 0; i < n; i++) {
			var v = this[i];
			total += typeof v === "string" ? v.length : isArray(v) ? measure(v) : 24;
			if (total > most) tooLarge("the text");
		}
		return apply(join, this, [sep]);
	});
	put(A, "toString", function () { return this.join(); });
	function flatten(into, list, depth) {
		for (var i = 0; i < list.length; i++) {
			if (depth > 0 && isArray(list[i])) flatten(into, list[i], depth - 1);
			else if (into.length >= most) tooLarge("the list");
			else push.call(into, list[i]);
		}
		return into;
	}
	put(A, "flat", function (depth) { return flatten([], this, depth === undefined ? 1 : Math.min(+depth || 0, 200)); });
	put(A, "flatMap", function (f, self) { return flatten([], this.map(f, self), 1); });
	guard(Array, "from", function (_, a) { if (len(a[0]) > most) tooLarge("the list"); });

	// measure tells how long a value is as JSON, at least; it stops where that is too long.
	function measure(v) {
		var total = 0, stack = [v];
		while (stack.length > 0) {
			var x = stack.pop();
			if (typeof x === "string") total += x.length + 2;
			else if (x !== null && typeof x === "object") {
				if (typeof x.length === "number" && x.length > most) tooLarge("the list");
				var names = keys(x);
				for (var i = 0; i < names.length; i++) {
					total += isArray(x) ? 1 : names[i].length + 3;
					push.call(stack, x[names[i]]);
				}
			} else total += 5;
			if (total > most * 4) tooLarge("the value");
		}
		return total;
	}
	function write(v, replacer, space) { measure(v); return stringify(v, replacer, space); }
	put(JSON, "stringify", function (v, replacer, space) { return write(v, replacer, space); });
	return { parse: function (s) { return parse(s); }, write: function (v) { return write(v); } };
})()`
