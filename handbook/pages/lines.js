// Writes a request as a line for a POSIX shell, and as Go. Tokens that were typed in stay out of both.

const token = '$WICKETWAY_TOKEN';

/** The request as a line that calls curl. */
export function shellLine(request, secrets) {
  const words = ['curl', '-i', quote(location.origin + hide(request.target, secrets))];
  if (request.method !== 'GET') words.splice(2, 0, '-X', request.method);
  for (const [name, value] of request.fields) words.push('-H', quote(`${name}: ${hide(value, secrets)}`));
  if (request.cookies.length) words.push('-b', quote(request.cookies.map(([name, value]) => `${name}=${value}`).join('; ')));
  const { body } = request;
  if (body?.form) for (const [name, value] of body.form) words.push('-F', quote(value instanceof File ? `${name}=@${value.name}` : `${name}=${value}`));
  else if (body?.file !== undefined) words.push('--data-binary', quote(`@${body.file}`));
  else if (body) words.push('--data-raw', quote(body.text));
  return words.join(' ');
}

/** A text without the tokens that were typed in. */
export function hide(text, secrets) {
  return secrets.filter(Boolean).reduce((said, secret) => said.replaceAll(secret, token), text);
}

function quote(word) {
  if (word.includes(token)) return `"${word.split(token).map((part) => part.replace(/[\\"`$]/g, '\\$&')).join(token)}"`;
  return /^[A-Za-z0-9_\-./:=,@%+]+$/.test(word) ? word : `'${word.replaceAll("'", "'\\''")}'`;
}

/** The request as Go that sends it by net/http. */
export function goText(request, secrets) {
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
  lines.push(`request, err := http.NewRequestWithContext(ctx, ${goString(request.method)}, ${goSecret(location.origin + hide(request.target, secrets))}, ${content})`, 'if err != nil {', '\treturn err', '}');
  for (const [name, value] of request.fields) lines.push(`request.Header.Set(${goString(name)}, ${goSecret(hide(value, secrets))})`);
  if (body?.form) lines.push('request.Header.Set("Content-Type", parts.FormDataContentType())');
  for (const [name, value] of request.cookies) lines.push(`request.AddCookie(&http.Cookie{Name: ${goString(name)}, Value: ${goString(value)}})`);
  lines.push('response, err := http.DefaultClient.Do(request)', 'if err != nil {', '\treturn err', '}', 'defer response.Body.Close()');
  return lines.join('\n');
}

function goSecret(text) {
  return text.split(token).map(goString).join(' + os.Getenv("WICKETWAY_TOKEN") + ').replaceAll('"" + ', '').replaceAll(' + ""', '');
}

/** A Go string: raw where that is easier to read. */
function goString(text) {
  if (/["\\]/.test(text) && !/[`\r\u0000-\u0008\u000b-\u001f\ufeff]/.test(text)) return `\`${text}\``;
  return `"${text.replace(/[\\"]/g, '\\$&').replace(/[\u0000-\u001f\u007f\u2028\u2029\ufeff]/g, (c) => `\\u${c.charCodeAt(0).toString(16).padStart(4, '0')}`)}"`;
}
