//! A client of the pages and of the interface for programs.

use super::{PASSWORD, Server, until};

/// A client that keeps its session and shows every answer as it is.
pub struct Http {
    agent: ureq::Agent,
    url: String,
    pub cookie: String,
}

/// What came back: status, address of a redirect, text.
pub struct Answer {
    pub status: u16,
    pub location: String,
    pub headers: ureq::http::HeaderMap,
    pub text: String,
}

impl Http {
    pub fn new(server: &Server) -> Self {
        let config = ureq::Agent::config_builder().http_status_as_error(false).max_redirects(0);
        Self { agent: config.build().into(), url: server.url.clone(), cookie: String::new() }
    }

    /// Another client of the same server, with nothing of this one's session.
    pub fn again(&self) -> Self {
        Self { agent: self.agent.clone(), url: self.url.clone(), cookie: String::new() }
    }

    /// Another client with the same session.
    pub fn again_signed_in(&self) -> Self {
        Self { cookie: self.cookie.clone(), ..self.again() }
    }

    /// The same session at another server.
    pub fn at(&self, server: &Server) -> Self {
        Self { url: server.url.clone(), ..self.again_signed_in() }
    }

    /// A client that is signed in.
    pub fn signed_in(server: &Server, email: &str) -> Self {
        Self::signed_in_with(server, email, PASSWORD)
    }

    pub fn signed_in_with(server: &Server, email: &str, password: &str) -> Self {
        let mut http = Self::new(server);
        let answer = http.post("/sign-in", &[("email", email), ("password", password)]);
        assert_eq!(answer.status, 303, "{}", answer.text);
        let cookie = answer.headers["set-cookie"].to_str().expect("a cookie");
        http.cookie = cookie.split(';').next().expect("a value").to_owned();
        http
    }

    fn answer(response: Result<ureq::http::Response<ureq::Body>, ureq::Error>) -> Answer {
        Self::read(response).expect("an answer")
    }

    fn read(response: Result<ureq::http::Response<ureq::Body>, ureq::Error>) -> Result<Answer, ureq::Error> {
        let mut response = response?;
        let location = response.headers().get("location").map_or("", |l| l.to_str().expect("text")).to_owned();
        let text = response.body_mut().with_config().limit(50 << 20).read_to_string()?;
        Ok(Answer { status: response.status().as_u16(), location, headers: response.headers().clone(), text })
    }

    pub fn get(&self, path: &str) -> Answer {
        self.try_get(path).expect("an answer")
    }

    /// The same where no answer may come.
    pub fn try_get(&self, path: &str) -> Result<Answer, ureq::Error> {
        Self::read(self.agent.get(format!("{}{path}", self.url)).header("cookie", &self.cookie).call())
    }

    /// A call of a program, without a session.
    pub fn call(&self, path: &str, headers: &[(&str, &str)], body: &[u8]) -> Answer {
        let mut request = self.agent.post(format!("{}{path}", self.url));
        for (name, value) in headers {
            request = request.header(*name, *value);
        }
        Self::answer(request.send(body))
    }

    /// A file, as it is.
    pub fn bytes(&self, path: &str) -> Vec<u8> {
        let mut answer =
            self.agent.get(format!("{}{path}", self.url)).header("cookie", &self.cookie).call().expect("an answer");
        assert_eq!(answer.status(), 200, "{path}");
        answer.body_mut().with_config().limit(100_000_000).read_to_vec().expect("a body")
    }

    /// The status of an answer, whatever it holds.
    pub fn status(&self, path: &str) -> u16 {
        let asked = self.agent.get(format!("{}{path}", self.url)).header("cookie", &self.cookie).call();
        let mut answer = asked.expect("an answer");
        answer.body_mut().with_config().limit(100_000_000).read_to_vec().expect("a body");
        answer.status().as_u16()
    }

    /// What stands above a file.
    pub fn headers(&self, path: &str) -> ureq::http::HeaderMap {
        let answer = self.agent.get(format!("{}{path}", self.url)).header("cookie", &self.cookie).call();
        answer.expect("an answer").headers().clone()
    }

    pub fn post(&self, path: &str, fields: &[(&str, &str)]) -> Answer {
        let request = self.agent.post(format!("{}{path}", self.url)).header("cookie", &self.cookie);
        Self::answer(request.send_form(fields.iter().copied()))
    }

    /// The proof that forms of this session carry.
    pub fn csrf(&self) -> String {
        let page = self.get("/").text;
        let after = page.split("name=\"csrf\" value=\"").nth(1).expect("a form");
        after.split('"').next().expect("a value").to_owned()
    }

    /// Posts a form of a page of ours.
    pub fn submit(&self, path: &str, fields: &[(&str, &str)]) -> Answer {
        let csrf = self.csrf();
        let mut all = vec![("csrf", csrf.as_str())];
        all.extend(fields);
        self.post(path, &all)
    }

    /// Sends a file as the page does.
    pub fn upload(&self, csrf: &str, name: &str, bytes: &[u8]) -> Answer {
        self.upload_with("", csrf, name, bytes)
    }

    /// Sends a list of a study.
    pub fn upload_list(&self, study: i64, name: &str, bytes: &[u8]) -> Answer {
        let field = format!("--cut\r\nContent-Disposition: form-data; name=\"study\"\r\n\r\n{study}\r\n");
        self.upload_with(&field, &self.csrf(), name, bytes)
    }

    fn upload_with(&self, fields: &str, csrf: &str, name: &str, bytes: &[u8]) -> Answer {
        let mut body = format!(
            "{fields}--cut\r\nContent-Disposition: form-data; name=\"csrf\"\r\n\r\n{csrf}\r\n--cut\r\nContent-Disposition: form-data; \
             name=\"file\"; filename=\"{name}\"\r\nContent-Type: text/csv\r\n\r\n"
        )
        .into_bytes();
        body.extend(bytes);
        body.extend(b"\r\n--cut--\r\n");
        let request = self.agent.post(format!("{}/uploads", self.url)).header("cookie", &self.cookie);
        Self::answer(request.header("content-type", "multipart/form-data; boundary=cut").send(&body[..]))
    }

    /// Remarks something on an entry of a ledger, perhaps with a file.
    pub fn remark(&self, path: &str, said: &str, file: Option<(&str, &[u8])>) -> Answer {
        let field = |name: &str| format!("--cut\r\nContent-Disposition: form-data; name=\"{name}\"");
        let mut body = format!("{}\r\n\r\n{}\r\n{}\r\n\r\n{said}\r\n", field("csrf"), self.csrf(), field("said"));
        if let Some((name, _)) = file {
            body += &format!("{}; filename=\"{name}\"\r\n\r\n", field("file"));
        }
        let mut body = body.into_bytes();
        body.extend(file.map_or(&b""[..], |(_, bytes)| bytes));
        body.extend(b"\r\n--cut--\r\n");
        let request = self.agent.post(format!("{}{path}", self.url)).header("cookie", &self.cookie);
        Self::answer(request.header("content-type", "multipart/form-data; boundary=cut").send(&body[..]))
    }

    /// Follows a job to its end: the page it leads to, or the page that says why not.
    pub async fn follow(&self, job: &str) -> Answer {
        until("the job ends", || async {
            let answer = self.get(job);
            if answer.status == 303 {
                return Some(self.get(&answer.location));
            }
            answer.text.contains("role=\"alert\"").then_some(answer)
        })
        .await
    }
}
