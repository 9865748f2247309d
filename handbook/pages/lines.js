// Writes a request as a line for a POSIX shell, and as Go. Tokens that were typed in stay out of both.

import { base64 } from './page.js';

const variable = /(\$WICKETWAY_[A-Z_]+)/;

/** The request as a line that calls curl. */
export function shellLine(request, credentials) {
  const words = ['curl', '-i', quote(location.origin + hide(request.target, credentials))];
  if (request.method !== 'GET') words.splice(2, 0, '-X', request.method);
  for (const [name, value] of request.fields) words.push('-H', quote(`${name}: ${hide(value, credentials)}`));
  if (request.cookies.length) words.push('-b', quote(request.cookies.map(([name, value]) => `${name}=${value}`).join('; ')));
  const { body } = request;
  if (body?.form) for (const [name, value] of body.form) words.push('-F', quote(value instanceof File ? `${name}=@${value.name}` : `${name}=${value}`));
  else if (body?.file !== undefined) words.push('--data-binary', quote(`@${body.file}`));
  else if (body) words.push('--data-raw', quote(body.text));
  return words.join(' ');
}

/** A text with variables in the place of the tokens that were typed in. */
export function hide(text, credentials) {
  return [...credentials].filter(([, secret]) => secret).reduce((said, [name, secret]) => {
    const variable = name[0] === '$' ? name : '$WICKETWAY_TOKEN';
    return said.replaceAll(secret, variable).replaceAll(base64(secret), variable);
  }, text);
}

function quote(word) {
  if (variable.test(word)) return `"${word.split(variable).map((part, i) => (i % 2 ? part : part.replace(/[\\"`$]/g, '\\$&'))).join('')}"`;
  return /^[A-Za-z0-9_\-./:=,@%+]+$/.test(word) ? word : `'${word.replaceAll("'", "'\\''")}'`;
}

/** The request as Go that sends it by net/http. */
export function goText(request, credentials) {
  const { body } = request;
  const lines = [];
  let content = 'nil';
  if (body?.form) {
    content = '&form';
    lines.push('var form bytes.Buffer', 'parts := multipart.NewWriter(&form)');
    for (const [name, value] of body.form) {
      if (value instanceof File) {
        lines.push(`part, err := parts.CreateFormFile(${goString(name)}, ${goString(value.name)})`, 'if err != nil {', '\treturn err', '}',
          `file, err := os.Open(${goString(value.name)})`, 'if err != nil {', '\treturn err', '}', 'defer file.Close()', 'if _, err := io.Copy(part, file); err != nil {', '\treturn err', '}');
      } else lines.push(`if err := parts.WriteField(${goString(name)}, ${goString(String(value))}); err != nil {`, '\treturn err', '}');
    }
    lines.push('if err := parts.Close(); err != nil {', '\treturn err', '}');
  } else if (body?.file !== undefined) {
    content = 'file';
    lines.push(`file, err := os.Open(${goString(body.file)})`, 'if err != nil {', '\treturn err', '}', 'defer file.Close()');
  } else if (body) content = `strings.NewReader(${goString(body.text)})`;
  lines.push(`request, err := http.NewRequestWithContext(ctx, ${goString(request.method)}, ${goSecret(location.origin + hide(request.target, credentials))}, ${content})`, 'if err != nil {', '\treturn err', '}');
  for (const [name, value] of request.fields) lines.push(`request.Header.Set(${goString(name)}, ${goSecret(hide(value, credentials))})`);
  if (body?.form) lines.push('request.Header.Set("Content-Type", parts.FormDataContentType())');
  for (const [name, value] of request.cookies) lines.push(`request.AddCookie(&http.Cookie{Name: ${goString(name)}, Value: ${goString(value)}})`);
  lines.push('response, err := http.DefaultClient.Do(request)', 'if err != nil {', '\treturn err', '}', 'defer response.Body.Close()');
  return lines.join('\n');
}

function goSecret(text) {
  return text.split(variable).map((part, i) => (i % 2 ? `os.Getenv("${part.slice(1)}")` : goString(part))).filter((part) => part !== '""').join(' + ') || '""';
}

/** A Go string: raw where that is easier to read. */
function goString(text) {
  if (/["\\]/.test(text) && !/[`\r\u0000-\u0008\u000b-\u001f\ufeff]/.test(text)) return `\`${text}\``;
  return `"${text.replace(/[\\"]/g, '\\$&').replace(/[\u0000-\u001f\u007f\u2028\u2029\ufeff]/g, (c) => `\\u${c.charCodeAt(0).toString(16).padStart(4, '0')}`)}"`;
}
